#include "app/benches/level/level_strip.h"

#include "core/advice/level_findings.h"

#include <algorithm>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kLowest = -60.0;
constexpr double kShares = 92.0; // width of the column beside the strip

double db(double power) { return power > 0.0 ? powerToDb(power) : -200.0; }

} // namespace

LevelStrip::LevelStrip(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("levelStrip");
    setAccessibleName(tr("Level over time"));
    setMinimumHeight(190);
}

void LevelStrip::setMeasurement(Measured measured, std::size_t channel, double referenceDbfs, TargetSchool school,
                                double barSeconds)
{
    if (measured == measured_ && channel == channel_ && referenceDbfs == reference_ && school == school_ &&
        barSeconds == barS_)
        return;
    measured_ = std::move(measured);
    channel_ = measured_ ? std::min(channel, measured_->channels.size() - 1) : 0;
    reference_ = referenceDbfs;
    school_ = school;
    barS_ = barSeconds;
    if (measured_) {
        const auto& c = measured_->channels[channel_];
        setAccessibleDescription(tr("averages %1 dBFS, true peak %2 dBTP, %3 seconds")
                                     .arg(c.vuTypical ? QString::number(*c.vuTypical + reference_, 'f', 1) : "-")
                                     .arg(c.truePeakDbtp ? QString::number(*c.truePeakDbtp, 'f', 1) : "-")
                                     .arg(measured_->info.durationS(), 0, 'f', 1));
    }
    changeStill();
}

void LevelStrip::setGaps(const std::vector<double>& seconds)
{
    if (seconds == gaps_) return;
    gaps_ = seconds;
    changeStill();
}

void LevelStrip::setLoop(double fromS, double toS)
{
    loopFrom_ = fromS;
    loopTo_ = toS;
    update();
}

void LevelStrip::setPosition(double seconds)
{
    position_ = seconds;
    update();
}

PlotArea LevelStrip::area() const
{
    const QRectF inner(44, 8, width() - 44 - kShares - 10, height() - 8 - 28);
    return {inner, Axis{0.0, std::max(0.1, measured_->info.durationS())}, Axis{kLowest, 0.0}};
}

void LevelStrip::drawStill(QPainter& p)
{
    if (!measured_) return drawEmpty(p, tr("Nothing measured yet."));
    const PlotArea area = this->area();
    const QRectF& inner = area.rect;
    const double target = school_ == TargetSchool::Average ? reference_ : -9.0;
    const double half = school_ == TargetSchool::Average ? 2.0 : 3.0;
    const double top = area.y.held(target + half), bottom = area.y.held(target - half);
    p.fillRect(QRectF(inner.left(), top, inner.width() + kShares + 10, bottom - top), ink(Token::Band));
    area.drawLevels(p, {0, -6, -12, -18, -24, -36, -48, -60}, [](double v) { return numberLabel(v); });
    drawPicture(p, area);

    p.setFont(Theme::instance().text(TextSize::Small, true));
    const QString band = school_ == TargetSchool::Average ? tr("target: average %1 \u00b1 2").arg(numberLabel(target))
                                                          : tr("target: peak %1 \u00b1 3").arg(numberLabel(target));
    drawLabel(p, {inner.left() + 4, top - 2}, band, Qt::AlignLeft | Qt::AlignBottom, ink(Token::Ink2), inner);

    // Bars along the foot, every one, second, fourth ... as room allows.
    const double duration = area.x.high;
    std::vector<double> bars;
    double every = 1.0;
    while (barS_ * every / duration * inner.width() < 42.0) every *= 2.0;
    for (double b = 0.0; b * barS_ < duration; b += every) bars.push_back(b * barS_);
    area.drawTicks(p, bars, [&](double s) {
        return (s == 0.0 ? tr("bar ") : QString()) + QString::number(std::lround(s / barS_) + 1);
    });
    drawShares(p, area, inner.right() + 12, kShares - 14);
}

/// The loop as a thick rule under the bars, and where it plays.
void LevelStrip::drawMoving(QPainter& p)
{
    if (!measured_) return;
    const PlotArea area = this->area();
    if (loopTo_ > loopFrom_) {
        const double a = area.x.held(loopFrom_), b = area.x.held(loopTo_);
        p.fillRect(QRectF(a, area.rect.bottom() + 1, b - a, 3), ink(Token::Act));
    }
    if (position_ >= 0.0 && position_ <= area.x.high) {
        p.setPen(QPen(ink(Token::Act), 1));
        const double x = area.x.at(position_);
        p.drawLine(QPointF(x, area.rect.top()), QPointF(x, area.rect.bottom()));
    }
}

void LevelStrip::drawPicture(QPainter& p, const PlotArea& area) const
{
    const ChannelMeasurement& c = measured_->channels[channel_];
    const auto columns = static_cast<std::size_t>(std::max(1.0, area.rect.width()));
    QColor peaks = ink(Token::Di);
    peaks.setAlphaF(0.38f);
    const auto extremes = c.peaks.columns(0.0, double(c.peaks.frames()), columns);
    const double hopsPerColumn = double(c.vuTrace.size()) / double(columns);
    QPolygonF average;
    for (std::size_t i = 0; i < columns; ++i) {
        const double x = area.rect.left() + double(i) + 0.5;
        const double peak = std::max(std::abs(extremes[i].low), std::abs(extremes[i].high));
        const auto first = static_cast<std::size_t>(double(i) * hopsPerColumn);
        const auto last = std::clamp(static_cast<std::size_t>(double(i + 1) * hopsPerColumn), first + 1,
                                     std::max(first + 1, c.vuTrace.size()));
        double high = 0.0;
        for (std::size_t k = first; k < std::min(last, c.vuTrace.size()); ++k)
            high = std::max(high, double(c.vuTrace[k]));
        const double y = area.y.held(db(high));
        average << QPointF(x, y);
        if (const double top = peak > 0.0 ? area.y.held(amplitudeToDb(peak)) : y; top < y)
            p.fillRect(QRectF(x - 0.5, top, 1.0, y - top), peaks);
    }
    p.setPen(QPen(ink(Token::Ink), 1.8));
    drawCurve(p, average);
    p.setPen(QPen(ink(Token::Act), 1.5, Qt::DotLine)); // samples are missing here
    for (const double s : gaps_)
        p.drawLine(QPointF(area.x.held(s), area.rect.top()), QPointF(area.x.held(s), area.rect.bottom()));
    // Clipped places as full marks on the ceiling.
    for (const ClipRun& run : c.level.clipRuns)
        p.fillRect(QRectF(area.x.at(run.startS) - 1.5, area.rect.top() - 4, 3, 10), ink(Token::Act));
}

/// How long the average stood at each level while somebody played.
void LevelStrip::drawShares(QPainter& p, const PlotArea& area, double left, double width) const
{
    const ChannelMeasurement& c = measured_->channels[channel_];
    constexpr int kStep = 2;
    std::array<int, 30> counts{};
    int most = 0;
    for (std::size_t i = 0; i < std::min(c.vuTrace.size(), c.noise.playing.size()); ++i) {
        const double level = db(double(c.vuTrace[i]));
        if (!c.noise.playing[i] || level <= kLowest || level >= 0.0) continue;
        most = std::max(most, ++counts[static_cast<std::size_t>(-level / kStep)]);
    }
    if (most > 0)
        for (std::size_t i = 0; i < counts.size(); ++i) {
            const double y = area.y.at(-double(i) * kStep), h = area.y.at(-double(i + 1) * kStep) - y;
            p.fillRect(QRectF(left, y + 1, width * counts[i] / most, h - 1), ink(Token::Ink2));
        }
    p.setFont(Theme::instance().text(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    p.drawText(QRectF(left - 6, area.rect.bottom() + 5, width + 20, 18), Qt::AlignLeft | Qt::AlignVCenter,
               tr("share of time"));
}

RestPicture::RestPicture(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("restPicture");
    setAccessibleName(tr("Noise and hum while nobody plays"));
    setMinimumHeight(150);
}

void RestPicture::setMeasurement(Measured measured, std::size_t channel)
{
    if (measured == measured_ && channel == channel_) return;
    measured_ = std::move(measured);
    channel_ = measured_ ? std::min(channel, measured_->channels.size() - 1) : 0;
    if (measured_) {
        const NoiseResult& n = measured_->channels[channel_].noise;
        setAccessibleDescription(
            n.floorDbfs ? tr("floor %1 dBFS%2")
                              .arg(*n.floorDbfs, 0, 'f', 1)
                              .arg(n.hum ? tr(", hum %1 dBFS").arg(n.hum->levelDbfs, 0, 'f', 1) : QString())
                        : tr("no rest to measure in"));
    }
    changeStill();
}

void RestPicture::drawStill(QPainter& p)
{
    if (!measured_) return;
    const NoiseResult& n = measured_->channels[channel_].noise;
    if (!n.floorDbfs)
        return drawEmpty(p, QString::fromStdString(whyNoFloor(n)) + "\n" +
                                tr("Leave a second of muted strings before the first note: noise and hum are measured "
                                   "there."));
    const RestSpectra& spectra = measured_->channels[channel_].spectra;
    double lowest = *n.floorDbfs;
    for (const double v : spectra.restDbfs)
        if (std::isfinite(v)) lowest = std::min(lowest, v);
    const double low = std::max(-160.0, std::floor(lowest / 20.0) * 20.0);
    const QRectF inner(44, 8, width() - 44 - 12, height() - 8 - 28);
    PlotArea area(inner, Axis{30.0, 16000.0, 0, 1, true}, Axis{low, 0.0});
    std::vector<double> levels;
    for (double v = 0.0; v >= low; v -= 20.0) levels.push_back(v);
    area.drawLevels(p, levels, [](double v) { return numberLabel(v); });
    area.drawTicks(p, {50, 100, 200, 500, 1000, 2000, 5000, 10000}, hzLabel);
    p.setFont(Theme::instance().text(TextSize::Small));
    p.setClipRect(inner);
    const auto curve = [&](const std::vector<double>& db) {
        QPolygonF line;
        for (std::size_t i = 0; i < db.size(); ++i)
            line << QPointF(area.x.at(spectra.hz[i]), area.y.at(std::isfinite(db[i]) ? db[i] : low - 20.0));
        return line;
    };
    if (!spectra.restDbfs.empty()) {
        QPolygonF bed = curve(spectra.restDbfs);
        p.setPen(QPen(ink(Token::Di), 1.6));
        drawCurve(p, bed);
        bed << QPointF(bed.back().x(), inner.bottom() + 2) << QPointF(bed.front().x(), inner.bottom() + 2);
        QColor fill = ink(Token::Di);
        fill.setAlphaF(0.25f);
        p.setPen(Qt::NoPen);
        p.setBrush(fill);
        p.drawPolygon(bed);
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(ink(Token::Ink), 1.6));
        drawCurve(p, curve(spectra.playDbfs));
    }
    if (n.hum)
        for (const HumHarmonic& h : n.hum->harmonics) {
            const double x = area.x.at(h.hz), y = area.y.at(h.levelDbfs);
            p.setPen(QPen(ink(Token::Act), 2));
            p.drawLine(QPointF(x, inner.bottom()), QPointF(x, y));
        }
    const double floorY = area.y.held(*n.floorDbfs);
    p.setPen(QPen(ink(Token::Ink2), 1.0, Qt::DashLine)); // all of it together: more than any band alone
    p.drawLine(QPointF(inner.left(), floorY), QPointF(inner.right(), floorY));
    p.setClipping(false);
    const bool narrow = inner.width() < 330.0;
    QString text = tr("floor %1 dBFS in all").arg(numberLabel(*n.floorDbfs, 1));
    if (n.snrDb) text += (narrow ? tr(", %1 dB under") : tr(", %1 dB under the playing")).arg(numberLabel(*n.snrDb, 0));
    drawLabel(p, {inner.right() - 4, floorY - 3}, text, Qt::AlignRight | Qt::AlignBottom, ink(Token::Ink2), inner);
    drawLabel(
        p, {inner.left() + 4, inner.top() + 2},
        n.hum
            ? tr("hum: %1 Hz series, %2 dBFS").arg(numberLabel(n.hum->mainsHz, 2)).arg(numberLabel(n.hum->levelDbfs, 1))
            : tr("no mains series stands out"),
        Qt::AlignLeft | Qt::AlignTop, n.hum ? ink(Token::Act) : ink(Token::Ink2), inner);
}

} // namespace gristle::app
