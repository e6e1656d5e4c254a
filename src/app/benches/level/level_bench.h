#pragma once

#include "app/benches/bench.h"

class QComboBox;
class QDoubleSpinBox;
class QLabel;
class QLineEdit;

namespace gristle::app {

class LevelStrip;
class RestPicture;

/// Is this DI captured right: gain, headroom, noise, hum?
class LevelBench : public Bench {
    Q_OBJECT
public:
    LevelBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
    void findings(FindingsPanel& panel) const override;
    AuditionRequest audition() const override;

private:
    void build();
    QWidget* buildFields();
    void refresh();
    void refreshFields();
    void writeFields();
    Remedies remedies() const;

    QLabel *big_, *bigUnit_, *readings_;
    LevelStrip* strip_;
    RestPicture* rest_;
    QComboBox *school_, *takes_;
    QDoubleSpinBox *reference_, *fullScale_;
    QLineEdit *guitar_, *pickup_;
    bool refreshing_ = false;
};

} // namespace gristle::app
