#pragma once

#include "app/models/capture.h"
#include "app/widgets/plot.h"

#include <deque>

namespace gristle::app {

/// What comes in now, over the last twenty seconds, against the target band: newest at the right.
class LiveStrip : public PlotWidget {
    Q_OBJECT
public:
    explicit LiveStrip(QWidget* parent = nullptr);
    void setTarget(double dbfs, double halfDb, const QString& text);
    void push(const InputReading& reading); ///< one look, about 30 a second
    void clear();
    void setRecording(bool on);

    static constexpr std::size_t kLooks = 660;

protected:
    void drawStill(QPainter&) override;
    void drawMoving(QPainter&) override;

private:
    PlotArea area() const;
    struct Look {
        float peak, average;
        bool clipped, recorded;
    };
    std::deque<Look> looks_;
    std::int64_t clips_ = 0;
    bool recording_ = false;
    double target_ = -18.0, half_ = 2.0;
    QString targetText_;
};

} // namespace gristle::app
