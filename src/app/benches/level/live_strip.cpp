#include "app/benches/level/live_strip.h"

namespace gristle::app {

namespace {

constexpr double kLowest = -72.0;

} // namespace

LiveStrip::LiveStrip(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("liveStrip");
    setAccessibleName(tr("Level of the input over the last 20 seconds"));
    setMinimumHeight(170);
}

void LiveStrip::setTarget(double dbfs, double halfDb, const QString& text)
{
    if (dbfs == target_ && halfDb == half_ && text == targetText_) return;
    target_ = dbfs;
    half_ = halfDb;
    targetText_ = text;
    changeStill();
}

void LiveStrip::push(const InputReading& reading)
{
    looks_.push_back({float(reading.peakDbfs), float(reading.averageDbfs), reading.clipped > clips_, recording_});
    clips_ = reading.clipped;
    if (looks_.size() > kLooks) looks_.pop_front();
    update();
}

void LiveStrip::clear()
{
    looks_.clear();
    clips_ = 0;
    update();
}

void LiveStrip::setRecording(bool on) { recording_ = on; }

PlotArea LiveStrip::area() const
{
    return {QRectF(44, 8, width() - 44 - 10, height() - 8 - 26), Axis{-20.0, 0.0}, Axis{kLowest, 0.0}};
}

void LiveStrip::drawStill(QPainter& p)
{
    const PlotArea area = this->area();
    const double top = area.y.held(target_ + half_), bottom = area.y.held(target_ - half_);
    p.fillRect(QRectF(area.rect.left(), top, area.rect.width(), bottom - top), ink(Token::Band));
    area.drawLevels(p, {0, -6, -12, -18, -24, -36, -48, -60, -72}, [](double v) { return numberLabel(v); });
    area.drawTicks(p, {-20, -15, -10, -5, 0},
                   [this](double v) { return v == 0.0 ? tr("now") : numberLabel(v) + tr(" s"); });
    p.setFont(Theme::instance().text(TextSize::Small, true));
    drawLabel(p, {area.rect.left() + 4, top - 2}, targetText_, Qt::AlignLeft | Qt::AlignBottom, ink(Token::Ink2),
              area.rect);
}

void LiveStrip::drawMoving(QPainter& p)
{
    const PlotArea area = this->area();
    if (looks_.empty()) {
        p.setFont(Theme::instance().text(TextSize::Normal));
        p.setPen(ink(Token::Ink2));
        p.drawText(area.rect, Qt::AlignCenter, emptyText_);
        return;
    }
    const double step = area.rect.width() / double(kLooks);
    double x = area.rect.right() - step * double(looks_.size());
    QColor peaks = ink(Token::Di);
    peaks.setAlphaF(0.38f);
    QPolygonF average;
    for (const Look& look : looks_) {
        const double level = area.y.held(double(look.average)), peak = area.y.held(double(look.peak));
        average << QPointF(x + 0.5 * step, level);
        if (peak < level) p.fillRect(QRectF(x, peak, step + 0.3, level - peak), peaks);
        if (look.clipped) p.fillRect(QRectF(x - 1, area.rect.top() - 4, step + 2, 10), ink(Token::Act));
        if (look.recorded) p.fillRect(QRectF(x, area.rect.bottom() + 1, step + 0.3, 3), ink(Token::Act));
        x += step;
    }
    p.setPen(QPen(ink(Token::Ink), 1.8));
    drawCurve(p, average);
}

} // namespace gristle::app
