#pragma once

#include "app/widgets/plot.h"
#include "core/measure/hum_trace.h"

namespace gristle::app {

/// The hum while the player turns: level over time, with where it was least and most.
class TurnPicture : public PlotWidget {
    Q_OBJECT
public:
    explicit TurnPicture(QWidget* parent = nullptr);
    void setTrace(const std::vector<core::HumPoint>& trace, double secondsInAll);

protected:
    void drawMoving(QPainter&) override;

private:
    std::vector<core::HumPoint> trace_;
    double seconds_ = 15.0;
};

/// What remains to be turned at the preamp, as a needle over decibels that can be read from two metres, and how many
/// bars agree.
class NeedlePicture : public PlotWidget {
    Q_OBJECT
public:
    explicit NeedlePicture(QWidget* parent = nullptr);
    void set(std::optional<double> remainingDb, int agreeing, int wanted, double agreeDb);

protected:
    void drawMoving(QPainter&) override;

private:
    std::optional<double> remaining_;
    int agreeing_ = 0, wanted_ = 3;
    double agree_ = 1.0;
};

} // namespace gristle::app
