#pragma once

#include "app/models/session_model.h"
#include "app/widgets/plot.h"

namespace gristle::app {

/// The average over time against its target band, with the peaks behind it and how long each level lasted beside it.
class LevelStrip : public PlotWidget {
    Q_OBJECT
public:
    explicit LevelStrip(QWidget* parent = nullptr);
    void setMeasurement(Measured measured, std::size_t channel, double referenceDbfs, core::TargetSchool school,
                        double barSeconds);
    void setGaps(const std::vector<double>& seconds); ///< where samples are missing
    void setLoop(double fromS, double toS);
    void setPosition(double seconds); ///< negative: nowhere

protected:
    void drawStill(QPainter&) override;
    void drawMoving(QPainter&) override;

private:
    PlotArea area() const;
    void drawPicture(QPainter& p, const PlotArea& area) const;
    void drawShares(QPainter& p, const PlotArea& area, double left, double width) const;
    Measured measured_;
    std::size_t channel_ = 0;
    double reference_ = -18.0, barS_ = 2.0, loopFrom_ = 0.0, loopTo_ = 0.0, position_ = -1.0;
    std::vector<double> gaps_;
    core::TargetSchool school_ = core::TargetSchool::Average;
};

/// What is there while nobody plays: the mains series as lines over the floor, against the playing.
class RestPicture : public PlotWidget {
    Q_OBJECT
public:
    explicit RestPicture(QWidget* parent = nullptr);
    void setMeasurement(Measured measured, std::size_t channel);

protected:
    void drawStill(QPainter&) override;

private:
    Measured measured_;
    std::size_t channel_ = 0;
};

} // namespace gristle::app
