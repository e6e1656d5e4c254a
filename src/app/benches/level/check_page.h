#pragma once

#include "app/benches/bench_page.h"
#include "app/models/guided_check.h"

class QComboBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QStackedWidget;

namespace gristle::app {

class LiveStrip;
class NeedlePicture;
class TurnPicture;

/// The check of the input in four steps and a needle, readable with the guitar in both hands.
class CheckPage : public BenchPage {
    Q_OBJECT
public:
    CheckPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    bool isBusy() const override { return check_.isBusy(); }
    GuidedCheck& check() { return run_; }

protected:
    void showEvent(QShowEvent*) override;

private:
    void build();
    QWidget* buildFoot();
    void refresh();
    void picture();
    void keep();
    core::PlayedWith with() const;
    void fillFrom(const core::GainEntry& entry);

    GuidedCheck run_;
    const TaskRunner& check_;
    std::vector<QPushButton*> steps_;
    QLabel *prompt_, *big_, *bigUnit_, *book_;
    QStackedWidget* pictures_;
    LiveStrip* strip_;
    TurnPicture* turn_;
    NeedlePicture* needle_;
    QPushButton *go_, *again_, *turnIt_, *keep_;
    QLineEdit *gain_, *strings_, *volume_, *tone_, *capo_;
    QComboBox *pick_, *listened_, *why_;
    std::string filledFor_; ///< the guitar whose last words stand in the fields
};

} // namespace gristle::app
