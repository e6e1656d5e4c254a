#pragma once

#include "app/widgets/plot.h"
#include "core/mix/figures/rig_ledger.h"
#include "core/mix/figures/rig_limits.h"

namespace gristle::app {

/// The level ladder that is the chain: one step a stage, playing, at rest and ceiling, in dBu. A stage is chosen by
/// click or with Left and Right.
class Ladder : public PlotWidget {
    Q_OBJECT
public:
    explicit Ladder(QWidget* parent = nullptr);
    /// @param lane  which lane's chain it is, none for the outermost
    void setChain(const std::vector<core::RigNode>& chain, std::optional<std::size_t> lane = std::nullopt);
    void setRungs(std::vector<core::Rung> rungs, double outputDb);
    /// @param limits  as many as there are rungs, or none yet
    /// @param outputCeilingDbu  full scale behind the output level
    void setLimits(std::vector<core::StageLimit> limits, std::optional<double> outputCeilingDbu);
    void setChosen(int stage);
    int chosen() const { return chosen_; }

signals:
    void choose(int stage); ///< from 0
    void move(int stage, int to);
    void remove(int stage);
    void insertWanted();  ///< behind the chosen one
    void open(int stage); ///< a double click or Enter: what is in it

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    bool event(QEvent*) override;

private:
    void drawCeilings(QPainter& p, const PlotArea& area, double outputPeakDbu) const;
    QRectF plot() const;
    double columnWidth() const;
    int stageAt(double x) const;
    std::vector<core::RigNode> chain_;
    std::optional<std::size_t> lane_;
    std::vector<core::Rung> rungs_;
    std::vector<core::StageLimit> limits_;
    std::optional<double> outputCeilingDbu_;
    double outputDb_ = 0.0;
    int chosen_ = 0;
    std::optional<int> dragged_; ///< a stage that is held down
    int dragTo_ = 0;
};

/// A few words on how a stage is set: "drive 5.5, master 4".
QString settingWords(const core::RigNode& node);

} // namespace gristle::app
