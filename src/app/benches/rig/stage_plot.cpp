#include "app/benches/rig/stage_plot.h"

#include "core/advice/finding.h"

#include <cmath>

namespace gristle::app {

using namespace core;

namespace {

/// The next of 1, 2, 5, 10 ... that is not below.
double roundUp(double value)
{
    const double unit = std::pow(10.0, std::floor(std::log10(std::max(1e-9, value))));
    for (const double by : {1.0, 2.0, 5.0})
        if (by * unit >= value) return by * unit;
    return 10.0 * unit;
}

QString volts(double v)
{
    if (v == 0.0) return QStringLiteral("0");
    return std::abs(v) < 0.1 ? StagePlot::tr("%1 mV").arg(numberLabel(1000.0 * v))
                             : StagePlot::tr("%1 V").arg(numberLabel(v, std::abs(v) < 1.0 ? 2 : 1));
}

/// Levels in steps that leave at most `most` of them.
std::vector<double> levels(double low, double high, std::size_t most)
{
    double step = 1.0;
    for (const double by : {1.0, 3.0, 6.0, 12.0, 20.0, 40.0}) {
        step = by;
        if ((high - low) / by <= double(most)) break;
    }
    std::vector<double> out;
    for (double v = std::ceil(low / step) * step; v <= high + 1e-9; v += step) out.push_back(v);
    return out;
}

} // namespace

StagePlot::StagePlot(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("stagePlot");
    setAccessibleName(tr("The chosen stage"));
    setMinimumHeight(150);
}

void StagePlot::setView(View view)
{
    view_ = view;
    changeStill();
}

void StagePlot::setReference(double hz)
{
    referenceHz_ = hz;
    changeStill();
}

void StagePlot::setPicture(std::optional<StagePicture> picture, double beatS)
{
    picture_ = std::move(picture);
    beatS_ = beatS;
    setAccessibleDescription(picture_ ? tr("playing at %1, peaks %2, second harmonic %3 dB, third %4 dB")
                                            .arg(volts(picture_->playingV), volts(picture_->peakV),
                                                 QString::fromStdString(figureText(picture_->harmonicsDb[0], 0)),
                                                 QString::fromStdString(figureText(picture_->harmonicsDb[1], 0)))
                                      : QString());
    changeStill();
}

QRectF StagePlot::plot() const { return QRectF(58, 26, width() - 58 - 30, height() - 26 - 24); }

void StagePlot::caption(QPainter& p, const QString& text) const
{
    p.setFont(Theme::instance().text(TextSize::Small, true));
    p.setPen(ink(Token::Ink));
    p.drawText(QRectF(0, 0, width(), 18), Qt::AlignLeft | Qt::AlignVCenter,
               p.fontMetrics().elidedText(text, Qt::ElideRight, width()));
}

void StagePlot::drawStill(QPainter& p)
{
    p.setRenderHint(QPainter::Antialiasing);
    if (!picture_) return drawEmpty(p, tr("Looking at the stage \u2026"));
    switch (view_) {
    case View::Transfer: return drawTransfer(p);
    case View::Response: return drawResponse(p);
    case View::Gain: return drawGain(p);
    case View::Echoes: return drawEchoes(p);
    case View::Spectrum: return drawSpectrum(p);
    case View::Notes:
        if (picture_->notes.empty())
            return drawEmpty(p, tr("no single string sounds on this loop: play one at a time"));
        return drawNotes(p);
    }
}

void StagePlot::drawTransfer(QPainter& p) const
{
    caption(p, tr("volts out for volts in, at this take's peaks of %1; shaded: where the playing lies")
                   .arg(volts(picture_->peakV)));
    double most = 1e-9;
    for (const auto& [in, out] : picture_->transfer) most = std::max(most, std::abs(out));
    const double high = roundUp(most), wide = picture_->peakV;
    PlotArea area(plot(), Axis{-wide, wide}, Axis{-high, high});
    const auto& lies = picture_->lies;
    const double full = std::ranges::max(lies), part = 2.0 * wide / double(lies.size());
    for (std::size_t i = 0; i < lies.size(); ++i) {
        const double left = area.x.at(-wide + part * double(i)), right = area.x.at(-wide + part * double(i + 1));
        // Its square root: seldom places are seen, too.
        const double height = plot().height() * std::sqrt(lies[i] / full);
        p.fillRect(QRectF(left, plot().bottom() - height, right - left - 1.0, height), ink(Token::Band));
    }
    area.drawLevels(p, {-high, 0.0, high}, volts);
    area.drawTicks(p, {-wide, -wide / 2, 0.0, wide / 2, wide}, volts);
    QPolygonF line;
    for (const auto& [in, out] : picture_->transfer) line << area.point(in, out);
    p.setPen(QPen(ink(Token::Ink), 1.8));
    p.setBrush(Qt::NoBrush);
    drawCurve(p, line);
}

void StagePlot::drawResponse(QPainter& p) const
{
    const bool bends = std::ranges::max(picture_->harmonicsDb) > -80.0;
    caption(p, bends ? tr("response at the playing's level, and harmonics of 220 Hz, dB")
                     : tr("response at the playing's level, dB; no harmonics above -80 dB"));
    QRectF rect = plot();
    if (bends) rect.setWidth(rect.width() * 0.64);
    double low = 0.0, high = -200.0;
    for (const double v : picture_->responseDb) high = std::max(high, v);
    low = high;
    for (const double v : picture_->responseDb) low = std::min(low, std::max(v, high - 48.0));
    low = std::floor(low / 6.0) * 6.0;
    high = std::max(low + 12.0, std::ceil(high / 6.0) * 6.0);
    PlotArea area(rect, Axis{30.0, 20000.0, 0, 1, true}, Axis{low, high});
    area.drawLevels(p, levels(low, high, 6), [](double v) { return numberLabel(v); });
    area.drawTicks(p, {50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0}, hzLabel);
    QPolygonF line;
    for (std::size_t i = 0; i < picture_->hz.size(); ++i) line << area.point(picture_->hz[i], picture_->responseDb[i]);
    p.setPen(QPen(ink(Token::Ink), 1.8));
    p.setBrush(Qt::NoBrush);
    drawCurve(p, line);
    if (bends)
        drawHarmonics(p, QRectF(rect.right() + 54, rect.top(), plot().right() - rect.right() - 54, rect.height()));
}

void StagePlot::drawHarmonics(QPainter& p, const QRectF& rect) const
{
    PlotArea area(rect, Axis{1.5, 10.5}, Axis{-80.0, 0.0});
    area.drawLevels(p, {-80.0, -60.0, -40.0, -20.0, 0.0}, [](double v) { return numberLabel(v); });
    area.drawTicks(p, {2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0, 10.0}, [](double v) { return numberLabel(v); });
    for (std::size_t i = 0; i < picture_->harmonicsDb.size(); ++i) {
        const double x = area.x.at(double(i) + 2.0);
        p.fillRect(QRectF(QPointF(x - 3.0, area.y.held(picture_->harmonicsDb[i])), QPointF(x + 3.0, rect.bottom())),
                   ink(Token::Ink));
    }
}

void StagePlot::drawGain(QPainter& p) const
{
    const auto& gains = picture_->gainDb;
    double low = 0.0, high = 0.0;
    bool any = false;
    for (const auto& g : gains)
        if (g) {
            low = any ? std::min(low, *g) : *g;
            high = any ? std::max(high, *g) : *g;
            any = true;
        }
    caption(p, tr("gain over the loop: from %1 to %2 dB")
                   .arg(QString::fromStdString(signedText(low)), QString::fromStdString(signedText(high))));
    low = std::floor(std::max(low, high - 60.0) / 6.0) * 6.0;
    high = std::max(low + 6.0, std::ceil(high / 6.0) * 6.0);
    const double endS = StagePicture::kHopS * double(gains.size());
    PlotArea area(plot(), Axis{0.0, endS}, Axis{low, high});
    area.drawLevels(p, levels(low, high, 6), [](double v) { return numberLabel(v); });
    std::vector<double> ticks;
    for (double s = 0.0; s <= endS; s += endS > 6.0 ? 2.0 : 0.5) ticks.push_back(s);
    area.drawTicks(p, ticks, [](double s) { return tr("%1 s").arg(numberLabel(s, 1)); });
    p.setPen(QPen(ink(Token::Ink), 1.6));
    for (std::size_t i = 1; i < gains.size(); ++i)
        if (gains[i - 1] && gains[i])
            p.drawLine(area.point(StagePicture::kHopS * double(i - 1), *gains[i - 1]),
                       area.point(StagePicture::kHopS * double(i), *gains[i]));
}

void StagePlot::drawEchoes(QPainter& p) const
{
    const auto& echo = picture_->echoDb;
    caption(p, tr("after one click, dB; rules are beats of %1 ms").arg(std::lround(1000.0 * beatS_)));
    const double endS = StagePicture::kEchoHopS * double(echo.size());
    PlotArea area(plot(), Axis{0.0, endS}, Axis{-60.0, 0.0});
    area.drawLevels(p, {-60.0, -40.0, -20.0, 0.0}, [](double v) { return numberLabel(v); });
    p.setPen(QPen(ink(Token::Rule), 1.0));
    std::vector<double> beats;
    for (double s = 0.0; s <= endS + 1e-9; s += beatS_) {
        beats.push_back(s);
        p.drawLine(QPointF(area.x.at(s), plot().top()), QPointF(area.x.at(s), plot().bottom()));
    }
    area.drawTicks(p, beats, [this](double s) { return QString::number(std::lround(s / beatS_)); });
    p.setPen(QPen(ink(Token::Ink), 2.0));
    for (std::size_t i = 0; i < echo.size(); ++i) {
        const double x = area.x.at(StagePicture::kEchoHopS * (double(i) + 0.5));
        if (echo[i] > -60.0) p.drawLine(QPointF(x, area.y.held(echo[i])), QPointF(x, plot().bottom()));
    }
}

void StagePlot::drawSpectrum(QPainter& p) const
{
    double high = -150.0;
    bool changes = false;
    for (const auto& t : picture_->thirds) {
        high = std::max({high, t.beforeDbu, t.afterDbu});
        changes |= std::abs(t.beforeDbu - t.afterDbu) > 0.1;
    }
    caption(p, changes ? tr("thirds of an octave behind the stage, dBu; dashed: before it")
                       : tr("thirds of an octave, dBu"));
    high = std::ceil(high / 6.0) * 6.0;
    const double low = high - 72.0;
    PlotArea area(plot(), Axis{36.0, 22000.0, 0, 1, true}, Axis{low, high});
    area.drawLevels(p, levels(low, high, 6), [](double v) { return numberLabel(v); });
    area.drawTicks(p, {50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0, 20000.0}, hzLabel);
    QPolygonF before;
    for (const auto& t : picture_->thirds) {
        constexpr double kPart = 1.1; // of a band, to each side: a gap stays between them
        const double left = area.x.at(t.hz / kPart), right = area.x.at(t.hz * kPart);
        const double top = area.y.held(t.afterDbu);
        p.fillRect(QRectF(QPointF(left, top), QPointF(right, plot().bottom())),
                   ink(changes ? Token::Ink3 : Token::Ink));
        before << QPointF(area.x.at(t.hz), area.y.held(t.beforeDbu));
    }
    if (!changes) return;
    p.setPen(QPen(ink(Token::Ink), 1.6, Qt::DashLine));
    p.setBrush(Qt::NoBrush);
    p.drawPolyline(before);
}

void StagePlot::drawNotes(QPainter& p) const
{
    const auto& notes = picture_->notes;
    double most = 10.0;
    for (const PitchMoment& m : notes) most = std::max(most, std::abs(nearestNote(m.pitch.hz, referenceHz_).cents));
    most = most > 20.0 ? 50.0 : most > 10.0 ? 20.0 : 10.0;
    const double endS = StagePicture::kHopS * double(picture_->gainDb.size());
    PlotArea area(plot(), Axis{0.0, endS}, Axis{-most, most});
    constexpr double kInTuneCents = 3.0;
    p.fillRect(QRectF(area.point(0.0, kInTuneCents), area.point(endS, -kInTuneCents)), ink(Token::Band));
    area.drawLevels(p, {-most, -most / 2.0, 0.0, most / 2.0, most}, [](double v) { return numberLabel(v); });
    std::vector<double> ticks;
    for (double s = 0.0; s <= endS; s += endS > 6.0 ? 2.0 : 0.5) ticks.push_back(s);
    area.drawTicks(p, ticks, [](double s) { return tr("%1 s").arg(numberLabel(s, 1)); });
    constexpr double kLabelApart = 28.0;
    std::vector<double> sizes;
    std::string last;
    double lastX = -kLabelApart;
    for (const PitchMoment& m : notes) {
        const NearestNote note = nearestNote(m.pitch.hz, referenceHz_);
        sizes.push_back(std::abs(note.cents));
        const QPointF at = area.point(m.timeS, note.cents);
        p.setPen(Qt::NoPen);
        p.setBrush(ink(Token::Ink));
        p.drawEllipse(at, 2.6, 2.6);
        if (note.name == last || at.x() - lastX < kLabelApart) continue;
        last = note.name;
        lastX = at.x();
        p.setPen(ink(Token::Ink));
        p.setFont(Theme::instance().text(TextSize::Small, true));
        const double y = note.cents > 0.7 * most ? at.y() + 16.0 : at.y() - 8.0;
        p.drawText(QPointF(at.x() - 4.0, y), QString::fromStdString(last));
    }
    const auto middle = sizes.begin() + long(sizes.size() / 2);
    std::ranges::nth_element(sizes, middle);
    caption(p, tr("cents off the nearest note, A4 = %1 Hz: half of it within %2; one string at a time")
                   .arg(numberLabel(referenceHz_, referenceHz_ == std::round(referenceHz_) ? 0 : 1),
                        numberLabel(*middle, 1)));
}

} // namespace gristle::app
