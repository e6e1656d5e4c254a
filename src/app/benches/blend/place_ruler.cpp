#include "app/benches/blend/place_ruler.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <algorithm>

namespace gristle::app {

namespace {

constexpr double kLowest = -18.0;

Token sideOf(double place) { return place < -2.0 ? Token::Left : place > 2.0 ? Token::Right : Token::Ink; }

QString placeText(double place)
{
    if (place == 0.0) return PlaceRuler::tr("C");
    return QString::number(std::abs(place), 'f', 0) + (place < 0.0 ? PlaceRuler::tr(" L") : PlaceRuler::tr(" R"));
}

} // namespace

PlaceRuler::PlaceRuler(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("placeRuler");
    setAccessibleName(tr("Layers between left and right"));
    setFocusPolicy(Qt::StrongFocus);
    setMinimumHeight(170);
}

void PlaceRuler::setLayers(std::vector<PlacedLayer> layers)
{
    layers_ = std::move(layers);
    QStringList said;
    for (const auto& l : layers_) said << tr("%1 at %2").arg(l.name, placeText(l.place));
    setAccessibleDescription(said.join(", "));
    update();
}

PlotArea PlaceRuler::area() const
{
    return {QRectF(54, 34, width() - 54 - 34, height() - 34 - 34), Axis{-100.0, 100.0}, Axis{kLowest, 0.0}};
}

int PlaceRuler::chosen() const
{
    const auto at = std::ranges::find(layers_, true, &PlacedLayer::chosen);
    return at == layers_.end() ? -1 : int(at - layers_.begin());
}

void PlaceRuler::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    if (layers_.empty()) return drawEmpty(p, tr("No layers with takes in this part yet."));
    const PlotArea a = area();
    a.drawLevels(p, {0, -6, -12, -18}, [](double v) { return numberLabel(v); });
    const double base = a.rect.bottom();
    p.setPen(QPen(ink(Token::Ink), 1.2));
    p.drawLine(QPointF(a.rect.left(), base), QPointF(a.rect.right(), base));
    for (int v = -100; v <= 100; v += 10)
        p.drawLine(QPointF(a.x.at(v), base), QPointF(a.x.at(v), base + (v % 50 == 0 ? 9 : 5)));
    p.setFont(Theme::instance().mono(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    for (int v = -100; v <= 100; v += 50)
        p.drawText(QRectF(a.x.at(v) - 40, base + 11, 80, 18), Qt::AlignCenter, placeText(v));

    std::vector<QRectF> taken;
    for (const PlacedLayer& l : layers_) {
        const double x = a.x.at(l.place);
        const double level = std::clamp(l.loudnessLu.value_or(0.0), kLowest + 1.0, 0.0);
        const double y = a.y.at(level);
        const QColor color = ink(sideOf(l.place));
        QColor bed = color;
        bed.setAlphaF(0.18f);
        const double half = l.chosen ? 15.0 : 10.0;
        const double left = std::max(a.rect.left(), x - half), right = std::min(a.rect.right(), x + half);
        p.fillRect(QRectF(left, y, right - left, base - y), bed);
        p.setPen(QPen(color, l.chosen ? 3.5 : 2.0));
        p.drawLine(QPointF(x, y), QPointF(x, base));
        if (l.chosen) {
            p.setPen(QPen(ink(Token::Act), hasFocus() ? 2.5 : 1.5));
            p.drawLine(QPointF(left, base + 2), QPointF(right, base + 2));
        }
        // Two lines over the stem, moved up where another label stands.
        p.setFont(Theme::instance().text(TextSize::Small, true));
        const QString figure = l.loudnessLu ? numberLabel(*l.loudnessLu, 1) + tr(" LU") : tr("measuring");
        const double w = std::max(p.fontMetrics().horizontalAdvance(l.name), 66) + 8.0;
        QRectF label(x - w / 2.0, y - 33, w, 32);
        if (label.left() < 48) label.moveLeft(48);
        if (label.right() > width() - 2) label.moveRight(width() - 2);
        for (int tries = 0; tries < 6; ++tries)
            for (const QRectF& other : taken)
                if (label.intersects(other)) label.moveTop(other.bottom() + 2);
        taken.push_back(label);
        QColor ground = ink(Token::Ground);
        ground.setAlphaF(0.8f);
        p.fillRect(label, ground);
        p.setPen(ink(Token::Ink));
        p.drawText(QRectF(label.left(), label.top(), label.width(), 16), Qt::AlignCenter, l.name);
        p.setFont(Theme::instance().mono(TextSize::Small));
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(label.left(), label.top() + 16, label.width(), 16), Qt::AlignCenter, figure);
    }
}

void PlaceRuler::mousePressEvent(QMouseEvent* event)
{
    const PlotArea a = area();
    int best = -1;
    double nearest = 24.0;
    for (std::size_t i = 0; i < layers_.size(); ++i) {
        const double away = std::abs(a.x.at(layers_[i].place) - event->position().x());
        if (away < nearest) nearest = away, best = int(i);
    }
    if (best >= 0) emit choose(best);
}

void PlaceRuler::mouseMoveEvent(QMouseEvent* event)
{
    if (!(event->buttons() & Qt::LeftButton) || chosen() < 0) return;
    emit move(chosen(), std::clamp(std::round(area().x.valueAt(event->position().x())), -100.0, 100.0));
}

void PlaceRuler::keyPressEvent(QKeyEvent* event)
{
    const int at = chosen();
    const double step = event->modifiers() & Qt::ShiftModifier ? 1.0 : 5.0;
    if (at >= 0 && (event->key() == Qt::Key_Left || event->key() == Qt::Key_Right)) {
        const double by = event->key() == Qt::Key_Left ? -step : step;
        return void(emit move(at, std::clamp(layers_[std::size_t(at)].place + by, -100.0, 100.0)));
    }
    if (at >= 0 && (event->key() == Qt::Key_Up || event->key() == Qt::Key_Down)) {
        const int n = int(layers_.size());
        return void(emit choose((at + (event->key() == Qt::Key_Up ? n - 1 : 1)) % n));
    }
    QWidget::keyPressEvent(event);
}

BandPlot::BandPlot(const QString& title, double low, double high, std::vector<double> levels, QWidget* parent)
    : PlotWidget(parent), title_(title), low_(low), high_(high), levels_(std::move(levels))
{
    setAccessibleName(title);
    setMinimumHeight(150);
}

void BandPlot::setCurve(std::vector<QPointF> points, double targetLow, double targetHigh)
{
    points_ = std::move(points);
    targetLow_ = targetLow;
    targetHigh_ = targetHigh;
    QStringList said;
    for (const QPointF& q : points_) said << QStringLiteral("%1 Hz %2").arg(hzLabel(q.x())).arg(q.y(), 0, 'f', 2);
    setAccessibleDescription(said.join(", "));
    update();
}

void BandPlot::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    p.setFont(Theme::instance().text(TextSize::Small, true));
    p.setPen(ink(Token::Ink));
    p.drawText(QRectF(0, 0, width(), 18), Qt::AlignLeft | Qt::AlignVCenter, title_);
    const QRectF inner(44, 26, width() - 44 - 14, height() - 26 - 26);
    PlotArea a(inner, Axis{50.0, 12500.0, 0, 1, true}, Axis{low_, high_});
    if (targetHigh_ > targetLow_) {
        const double top = a.y.held(targetHigh_);
        p.fillRect(QRectF(inner.left(), top, inner.width(), a.y.held(targetLow_) - top), ink(Token::Band));
    }
    a.drawLevels(p, levels_, [&](double v) { return numberLabel(v, v == std::round(v) ? 0 : 1); });
    a.drawTicks(p, {50, 100, 200, 500, 1000, 2000, 5000, 10000}, hzLabel);
    QPolygonF line;
    const QPointF* worst = nullptr;
    for (const QPointF& q : points_) {
        if (q.x() < 50.0 || q.x() > 12500.0) continue;
        line << a.point(q.x(), q.y());
        if (targetHigh_ > targetLow_ && q.y() > targetHigh_ && (!worst || q.y() > worst->y())) worst = &q;
    }
    p.setClipRect(inner.adjusted(0, -2, 0, 2));
    p.setPen(QPen(ink(Token::Ink), 1.8));
    p.drawPolyline(line);
    p.setClipping(false);
    if (worst) {
        p.setFont(Theme::instance().text(TextSize::Small));
        const QPointF at = a.point(worst->x(), worst->y());
        const bool high = at.y() < inner.top() + 22.0; // no room over it
        drawLabel(p, at + QPointF(0, high ? 5 : -4),
                  QStringLiteral("\u25b3 %1 Hz, %2").arg(hzLabel(worst->x()), numberLabel(worst->y(), 1)),
                  Qt::AlignHCenter | (high ? Qt::AlignTop : Qt::AlignBottom), ink(Token::Act), inner);
    }
    if (points_.empty()) drawEmpty(p, tr("measured when there are two sides"));
}

} // namespace gristle::app
