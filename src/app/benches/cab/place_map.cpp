#include "app/benches/cab/place_map.h"

#include <QKeyEvent>
#include <QMouseEvent>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kLowDb = -18.0, kHighDb = 9.0, kStepDb = 3.0;
constexpr double kCurveLowDb = -24.0, kCurveHighDb = 12.0;
constexpr int kLeft = 52, kRight = 16;

QColor shade(double db)
{
    const double step = kStepDb * std::round(db / kStepDb); // in steps, so that their borders are lines of equal level
    const double part = std::clamp((step - kLowDb) / (kHighDb - kLowDb), 0.0, 1.0);
    const QColor a = ink(Token::Ground), b = ink(Token::Ink);
    const auto mix = [&](int from, int to) { return int(std::lround(from + (to - from) * part)); };
    return {mix(a.red(), b.red()), mix(a.green(), b.green()), mix(a.blue(), b.blue())};
}

} // namespace

PlaceMap::PlaceMap(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("placeMap");
    setAccessibleName(tr("Tone against the microphone's place; arrow keys move it"));
    setMinimumHeight(220);
    setFocusPolicy(Qt::StrongFocus);
    setEmptyText(tr("Computing what the microphone hears \u2026"));
}

void PlaceMap::setMap(std::optional<PlacementMap> map, const QString& lineName, bool isCoarse)
{
    map_ = std::move(map);
    lineName_ = lineName;
    isCoarse_ = isCoarse;
    changeStill();
}

void PlaceMap::setPlace(double position)
{
    place_ = position;
    setAccessibleDescription(tr("%1 %2").arg(lineName_, positionText(position)));
    changeStill();
}

void PlaceMap::setCurves(std::vector<Curve> others)
{
    others_ = std::move(others);
    changeStill();
}

QString PlaceMap::positionText(double position) const
{
    const bool isAngle = map_ && map_->line == MapLine::Angle;
    return isAngle ? tr("%1\u00b0").arg(numberLabel(position)) : tr("%1 cm").arg(numberLabel(100.0 * position, 1));
}

PlotArea PlaceMap::mapArea() const
{
    const double low = map_ ? map_->positions.front() : 0.0, high = map_ ? map_->positions.back() : 1.0;
    const bool isDistance = map_ && map_->line == MapLine::Distance && low > 0.0;
    const double h = 0.54 * (height() - 40);
    return {QRectF(kLeft, 20, width() - kLeft - kRight, h), Axis{60.0, 14000.0, 0, 1, true},
            Axis{low, high, 0, 1, isDistance}};
}

PlotArea PlaceMap::curveArea() const
{
    const double top = mapArea().rect.bottom() + 10;
    return {QRectF(kLeft, top, width() - kLeft - kRight, height() - top - 24), Axis{60.0, 14000.0, 0, 1, true},
            Axis{kCurveLowDb, kCurveHighDb}};
}

std::vector<ResponsePoint> PlaceMap::responseAt(double position) const
{
    std::vector<ResponsePoint> out;
    if (!map_ || map_->positions.size() < 2) return out;
    const auto& at = map_->positions;
    const auto next = std::upper_bound(at.begin() + 1, at.end() - 1, position);
    const auto i = std::size_t(next - at.begin());
    const double part = std::clamp((position - at[i - 1]) / (at[i] - at[i - 1]), 0.0, 1.0);
    const std::size_t bands = map_->hz.size();
    for (std::size_t b = 0; b < bands; ++b)
        out.push_back({map_->hz[b],
                       double(map_->db[(i - 1) * bands + b]) * (1.0 - part) + double(map_->db[i * bands + b]) * part});
    return out;
}

void PlaceMap::drawStill(QPainter& p)
{
    if (!map_) return drawEmpty(p, emptyText_);
    const PlotArea area = mapArea();
    QImage image(area.rect.size().toSize(), QImage::Format_RGB32);
    for (int y = 0; y < image.height(); ++y) {
        const auto row = responseAt(area.y.valueAt(area.rect.top() + y + 0.5));
        const double bands = double(row.size() - 1);
        auto* pixels = reinterpret_cast<QRgb*>(image.scanLine(y));
        for (int x = 0; x < image.width(); ++x) { // bands lie evenly
            const double at = bands * (x + 0.5) / image.width();
            const auto i = std::min(row.size() - 2, std::size_t(at));
            pixels[x] = shade(row[i].db + (row[i + 1].db - row[i].db) * (at - double(i))).rgb();
        }
    }
    p.drawImage(area.rect.topLeft(), image);
    p.setFont(Theme::instance().text(TextSize::Small));
    const QRectF all(rect());
    drawLabel(p, {area.rect.left(), 9},
              isCoarse_ ? tr("%1 \u2014 coarse, more comes").arg(lineName_) : tr("%1; darker: louder").arg(lineName_),
              Qt::AlignLeft | Qt::AlignVCenter, ink(Token::Ink2), all);
    // A ramp that tells the shades.
    const double rampLeft = area.rect.right() - 96;
    for (int i = 0; i < 60; ++i)
        p.fillRect(QRectF(rampLeft + i, 5, 1, 9), shade(kLowDb + (kHighDb - kLowDb) * i / 59.0));
    p.setPen(ink(Token::Rule));
    p.drawRect(QRectF(rampLeft - 0.5, 4.5, 61, 10));
    drawLabel(p, {rampLeft - 5, 9}, numberLabel(kLowDb), Qt::AlignRight | Qt::AlignVCenter, ink(Token::Ink2), all);
    drawLabel(p, {rampLeft + 66, 9}, tr("+%1 dB").arg(kHighDb), Qt::AlignLeft | Qt::AlignVCenter, ink(Token::Ink2),
              all);
    // Positions on the left.
    const double low = map_->positions.front(), high = map_->positions.back();
    std::vector<double> ticks;
    if (map_->line == MapLine::Distance && low > 0.0) {
        for (const double cm : {1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0}) ticks.push_back(0.01 * cm);
    } else {
        const double step = map_->line == MapLine::Angle ? 30.0 : (high - low > 0.25 ? 0.1 : 0.02);
        for (double v = std::ceil(low / step - 1e-9) * step; v <= high + 1e-9; v += step) ticks.push_back(v);
    }
    for (const double v : ticks) {
        if (v < low - 1e-9 || v > high + 1e-9) continue;
        const double y = area.y.at(v);
        p.setPen(ink(Token::Rule));
        p.drawLine(QPointF(area.rect.left() - 4, y), QPointF(area.rect.left(), y));
        const QString text = map_->line == MapLine::Angle ? tr("%1\u00b0").arg(numberLabel(v)) : numberLabel(100.0 * v);
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(0, y - 8, kLeft - 8, 16), Qt::AlignRight | Qt::AlignVCenter, text);
    }
    p.setPen(QPen(ink(Token::Ink), 1.0));
    p.setBrush(Qt::NoBrush);
    p.drawRect(area.rect);
    // The response at the place.
    const PlotArea curves = curveArea();
    curves.drawLevels(
        p, curves.rect.height() < 100 ? std::vector<double>{6, -6, -18} : std::vector<double>{6, 0, -6, -12, -18},
        [](double v) { return v > 0 ? "+" + numberLabel(v) : numberLabel(v); });
    curves.drawTicks(p, {100, 200, 500, 1000, 2000, 5000, 10000}, hzLabel);
    const auto draw = [&](const std::vector<ResponsePoint>& points, const QPen& pen) {
        QPolygonF line;
        for (const ResponsePoint& r : points)
            if (r.hz >= 60.0 && r.hz <= 14000.0) line << QPointF(curves.x.at(r.hz), curves.y.at(r.db));
        p.setPen(pen);
        p.drawPolyline(line);
    };
    p.setClipRect(curves.rect.adjusted(0, -1, 0, 1));
    static constexpr Qt::PenStyle kStyles[] = {Qt::DashLine, Qt::DotLine, Qt::DashDotLine};
    std::vector<std::pair<QPen, QString>> legend{{QPen(ink(Token::Act), 2.4), tr("here")}};
    std::size_t other = 0;
    for (const Curve& c : others_) {
        const QPen pen(ink(c.isSum ? Token::Ink : Token::Ink3), c.isSum ? 1.8 : 1.2,
                       c.isSum ? Qt::SolidLine : kStyles[other++ % 3]);
        draw(c.points, pen);
        legend.push_back({pen, c.name});
    }
    draw(responseHere(), legend[0].first);
    p.setClipping(false);
    p.setFont(Theme::instance().text(TextSize::Small));
    double x = curves.rect.left() + 8;
    const double y = curves.rect.bottom() - 9;
    for (const auto& [pen, name] : legend) {
        const double wide = 40 + p.fontMetrics().horizontalAdvance(name);
        if (x + wide > curves.rect.right()) break;
        p.setPen(pen);
        p.drawLine(QPointF(x, y), QPointF(x + 22, y));
        drawLabel(p, {x + 27, y}, name, Qt::AlignLeft | Qt::AlignVCenter, ink(Token::Ink), curves.rect);
        x += wide;
    }
}

void PlaceMap::drawMoving(QPainter& p)
{
    if (!map_) return;
    const PlotArea area = mapArea();
    const double y = area.y.held(place_);
    p.setPen(QPen(ink(Token::Ground), 4.0));
    p.drawLine(QPointF(area.rect.left(), y), QPointF(area.rect.right(), y));
    p.setPen(QPen(ink(Token::Act), 2.0));
    p.drawLine(QPointF(area.rect.left() - 6, y), QPointF(area.rect.right() + 6, y));
    p.setFont(Theme::instance().text(TextSize::Small, true));
    const double up = y < area.rect.top() + 18 ? 11 : -9;
    drawLabel(p, {area.rect.right() - 6, y + up}, positionText(place_), Qt::AlignRight | Qt::AlignVCenter,
              ink(Token::Act), area.rect);
    if (hasFocus()) {
        p.setPen(QPen(ink(Token::Act), 1.0, Qt::DotLine));
        p.setBrush(Qt::NoBrush);
        p.drawRect(area.rect.adjusted(-2, -2, 2, 2));
    }
}

void PlaceMap::resizeEvent(QResizeEvent* event)
{
    PlotWidget::resizeEvent(event);
    changeStill();
}

void PlaceMap::moveTo(const QPointF& at)
{
    if (!map_) return;
    const PlotArea area = mapArea();
    const double low = map_->positions.front(), high = map_->positions.back();
    emit moved(std::clamp(area.y.valueAt(at.y()), std::min(low, high), std::max(low, high)));
}

void PlaceMap::mousePressEvent(QMouseEvent* event)
{
    if (mapArea().rect.contains(event->position())) moveTo(event->position());
}

void PlaceMap::mouseMoveEvent(QMouseEvent* event)
{
    if (event->buttons() & Qt::LeftButton) moveTo(event->position());
}

void PlaceMap::keyPressEvent(QKeyEvent* event)
{
    const int way = event->key() == Qt::Key_Up ? 1 : event->key() == Qt::Key_Down ? -1 : 0;
    if (way == 0 || !map_) return PlotWidget::keyPressEvent(event);
    const double finer = event->modifiers() & Qt::ShiftModifier ? 0.2 : 1.0;
    const double low = map_->positions.front(), high = map_->positions.back();
    double to = place_;
    if (map_->line == MapLine::Angle)
        to += 5.0 * way * finer;
    else if (map_->line == MapLine::Offset)
        to += 0.005 * way * finer;
    else
        to *= 1.0 + 0.1 * way * finer;
    emit moved(std::clamp(to, std::min(low, high), std::max(low, high)));
}

} // namespace gristle::app
