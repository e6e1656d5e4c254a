#pragma once

#include "app/theme/theme.h"

#include <QPainter>
#include <QWidget>
#include <functional>
#include <vector>

namespace gristle::app {

/// One direction of a plot: values onto pixels, straight or logarithmic.
struct Axis {
    double low = 0.0, high = 1.0;
    double from = 0.0, to = 1.0; ///< pixels at low and high
    bool logarithmic = false;

    double at(double value) const;
    double held(double value) const { return at(std::clamp(value, low, high)); }
    double valueAt(double pixel) const;
};

/// Where a plot's curves go, and its rules and labels.
struct PlotArea {
    QRectF rect;
    Axis x, y;

    PlotArea(const QRectF& inner, Axis xAxis, Axis yAxis);
    /// Thin rules across with a label to the left of each.
    void drawLevels(QPainter& p, const std::vector<double>& values, const std::function<QString(double)>& label) const;
    /// Labels under the plot, left out where they would touch.
    void drawTicks(QPainter& p, const std::vector<double>& values, const std::function<QString(double)>& label) const;
    QPointF point(double xv, double yv) const { return {x.at(xv), y.held(yv)}; }
};

/// Hz as people write it on an axis: 50, 200, 1 k, 10 k.
QString hzLabel(double hz);
/// A real minus sign.
QString numberLabel(double value, int digits = 0);

/// A line of many points by the painter's pen, which is opaque and not dashed. In short pieces: where a line goes far
/// up and down, Qt's stroke of all of it takes half a second for 660 points, and more than in proportion for more.
void drawCurve(QPainter& p, const QPolygonF& line);

/// Draws text so that it stays inside `bounds`, with the ground behind it so that lines do not run through.
void drawLabel(QPainter& p, QPointF at, const QString& text, Qt::Alignment alignment, const QColor& color,
               const QRectF& bounds);

/// A widget that is painted from data it was given; also says its numbers as text to those who cannot see it. What
/// stands still is drawn once and kept as a picture; what moves over it (a loop, a position) is drawn each time.
class PlotWidget : public QWidget {
    Q_OBJECT
public:
    explicit PlotWidget(QWidget* parent = nullptr);
    void setEmptyText(const QString& text);

protected:
    void paintEvent(QPaintEvent*) override;
    virtual void drawStill(QPainter&) {}
    virtual void drawMoving(QPainter&) {}
    void changeStill(); ///< the data are others: draw it anew
    void drawEmpty(QPainter& p, const QString& fallback);
    QString emptyText_;

private:
    QPixmap still_;
};

} // namespace gristle::app
