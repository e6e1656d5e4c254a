#pragma once

#include "app/widgets/plot.h"
#include "core/mix/rig_ledger.h"

namespace gristle::app {

/// The level ladder that is the chain: one step a stage, playing and at rest, in dBu. A stage is chosen by click or
/// with Left and Right.
class Ladder : public PlotWidget {
    Q_OBJECT
public:
    explicit Ladder(QWidget* parent = nullptr);
    /// @param names  of the stages, second line of each
    void setChain(const std::vector<core::RigNode>& chain);
    void setRungs(std::vector<core::Rung> rungs, double outputDb);
    void setChosen(int stage);
    int chosen() const { return chosen_; }

signals:
    void choose(int stage); ///< from 0

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    bool event(QEvent*) override;

private:
    QRectF plot() const;
    double columnWidth() const;
    int stageAt(double x) const;
    std::vector<core::RigNode> chain_;
    std::vector<core::Rung> rungs_;
    double outputDb_ = 0.0;
    int chosen_ = 0;
};

/// A few words on how a stage is set: "drive 5.5, master 4".
QString settingWords(const core::RigNode& node);

} // namespace gristle::app
