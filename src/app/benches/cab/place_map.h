#pragma once

#include "app/widgets/plot.h"
#include "core/impulse/impulse_info.h"
#include "core/impulse/placement.h"

#include <optional>

namespace gristle::app {

/// Level over frequency against position along one line, as a map with the chosen place as a line on it, and under it,
/// over the same frequencies, the response there. A click, a drag or the arrow keys move the place.
class PlaceMap : public PlotWidget {
    Q_OBJECT
public:
    explicit PlaceMap(QWidget* parent = nullptr);
    struct Curve {
        QString name;
        std::vector<core::ResponsePoint> points;
        bool isSum = false;
    };
    void setMap(std::optional<core::PlacementMap> map, const QString& lineName, bool isCoarse);
    void setPlace(double position); ///< in metres or degrees, as the map's
    void setCurves(std::vector<Curve> others);
    /// The map's row at the place, between its rows: what the response under it is drawn from.
    std::vector<core::ResponsePoint> responseHere() const { return responseAt(place_); }
    std::vector<core::ResponsePoint> responseAt(double position) const;

signals:
    void moved(double position);

protected:
    void drawStill(QPainter&) override;
    void drawMoving(QPainter&) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

private:
    PlotArea mapArea() const;
    PlotArea curveArea() const;
    void moveTo(const QPointF& at);
    QString positionText(double position) const;

    std::optional<core::PlacementMap> map_;
    QString lineName_;
    bool isCoarse_ = false;
    double place_ = 0.0;
    std::vector<Curve> others_;
};

} // namespace gristle::app
