#pragma once

#include "app/widgets/plot.h"

namespace gristle::app {

/// A layer on the ruler.
struct PlacedLayer {
    QString name;
    double place = 0.0;
    std::optional<double> loudnessLu; ///< against the loudest layer
    bool chosen = false;
};

/// The left-right ruler: every layer stands at its place, as high as it is loud. A layer is chosen by click, and moved
/// with Left and Right (Shift: finer).
class PlaceRuler : public PlotWidget {
    Q_OBJECT
public:
    explicit PlaceRuler(QWidget* parent = nullptr);
    void setLayers(std::vector<PlacedLayer> layers);

signals:
    void choose(int layer);
    void move(int layer, double place);

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

private:
    PlotArea area() const;
    int chosen() const;
    std::vector<PlacedLayer> layers_;
};

/// A curve over frequency.
class BandPlot : public PlotWidget {
    Q_OBJECT
public:
    BandPlot(const QString& title, double low, double high, std::vector<double> levels, QWidget* parent);
    /// @param target  a band between two values that is wanted; empty where they are equal
    void setCurve(std::vector<QPointF> points, double targetLow, double targetHigh);

protected:
    void paintEvent(QPaintEvent*) override;

private:
    QString title_;
    double low_, high_;
    std::vector<double> levels_;
    std::vector<QPointF> points_;
    double targetLow_ = 0.0, targetHigh_ = 0.0;
};

} // namespace gristle::app
