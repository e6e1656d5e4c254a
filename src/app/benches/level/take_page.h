#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"

class QComboBox;
class QDoubleSpinBox;
class QLabel;
class QLineEdit;

namespace gristle::app {

class LevelStrip;
class RestPicture;

/// The take in hand: its level against the target, what is there at rest, and how it was taken.
class TakePage : public BenchPage {
    Q_OBJECT
public:
    TakePage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    Remedies remedies() override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return cleanTask_.isBusy(); }

private:
    void build();
    QWidget* buildFields();
    void refresh();
    void refreshFields();
    void writeFields();
    void putFirstInRig(core::RigNode node, const QString& text);
    void judgeCleaning();

    QLabel *big_, *bigUnit_, *readings_;
    LevelStrip* strip_;
    RestPicture* rest_;
    QComboBox *school_, *takes_;
    QDoubleSpinBox *reference_, *fullScale_;
    QLineEdit *guitar_, *pickup_;
    SessionTask cleanTask_{session()};
    std::string cleanKey_; ///< take and nodes that cleanFound_ is of
    std::vector<core::Finding> cleanFound_;
    bool refreshing_ = false;
};

} // namespace gristle::app
