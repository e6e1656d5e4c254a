#pragma once

#include "app/widgets/plot.h"
#include "core/advice/double_findings.h"

namespace gristle::app {

/// Every note of the second side, early or late against the first, over the bars; what is heard as what is written at
/// the edge; a stroke through a note is two standard errors of its figure to either side. Under it how far it is out of
/// tune, and how much louder. One bar is in hand.
class OffsetPlot : public PlotWidget {
    Q_OBJECT
public:
    explicit OffsetPlot(QWidget* parent);
    void clear();
    /// @param barsS  where each bar begins, from bar 1, one more than there are
    void setPair(const core::DoubleTake& take, const core::DoubleLimits& limits, std::vector<double> barsS,
                 std::vector<core::StrayBar> strays);
    void setLoop(double fromBar, double toBar);
    void setInHand(int bar, int lastBar);
    int bar() const { return bar_; }

signals:
    void choose(int bar);

protected:
    void drawStill(QPainter& p) override;
    void drawMoving(QPainter& p) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void focusInEvent(QFocusEvent*) override { update(); }
    void focusOutEvent(QFocusEvent*) override { update(); }

private:
    struct Areas {
        PlotArea offset, cents, level;
    };
    Areas areas() const;
    int allBars() const { return std::max(0, int(barsS_.size()) - 1); }
    int firstBar() const;
    int bars() const; ///< that there is room for
    double barAt(double seconds) const;

    std::optional<core::DoubleTake> take_;
    core::DoubleLimits limits_;
    std::vector<double> barsS_;
    std::vector<core::StrayBar> strays_;
    double loopFrom_ = 1.0, loopTo_ = 1.0;
    int bar_ = 1, lastBar_ = 1; ///< in hand
};

} // namespace gristle::app
