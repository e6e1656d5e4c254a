#include "app/benches/blend/song_plot.h"

#include <QMouseEvent>
#include <algorithm>
#include <cmath>

namespace gristle::app {

namespace {

constexpr double kShownLu = 24.0; // under the loudest
constexpr double kFirstS = 3.0;

QString timeLabel(double s) { return QStringLiteral("%1:%2").arg(int(s) / 60).arg(int(s) % 60, 2, 10, QChar('0')); }

} // namespace

SongPlot::SongPlot(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("songPlot");
    setAccessibleName(tr("Loudness over the song, with its sections"));
    setMinimumHeight(180);
}

void SongPlot::setSong(std::vector<float> lufs, double endS, std::vector<PlottedSection> sections)
{
    lufs_ = std::move(lufs), endS_ = endS, sections_ = std::move(sections);
    QStringList said;
    for (const PlottedSection& s : sections_)
        said << tr("%1 from %2 to %3").arg(s.name, timeLabel(s.fromS), timeLabel(s.toS)) +
                    (s.lufs ? tr(", %1 LUFS").arg(numberLabel(*s.lufs, 1)) : QString());
    setAccessibleDescription(said.join("; "));
    changeStill();
}

PlotArea SongPlot::area() const
{
    double top = -60.0;
    for (const float x : lufs_) top = std::max(top, double(x));
    for (const PlottedSection& s : sections_) top = std::max(top, s.lufs.value_or(-60.0));
    top = 3.0 * std::ceil((top + 0.5) / 3.0);
    return {QRectF(48, 30, width() - 48 - 16, height() - 30 - 26), Axis{0.0, std::max(1.0, endS_)},
            Axis{top - kShownLu, top}};
}

void SongPlot::drawStill(QPainter& p)
{
    p.setRenderHint(QPainter::Antialiasing);
    if (lufs_.empty() && sections_.empty()) return drawEmpty(p, tr("Nothing of this song is measured yet."));
    const PlotArea a = area();
    std::vector<double> levels, times;
    for (double v = a.y.high; v >= a.y.low; v -= 6.0) levels.push_back(v);
    const double step = endS_ > 240.0 ? 60.0 : endS_ > 90.0 ? 30.0 : endS_ > 20.0 ? 10.0 : 2.0;
    for (double s = 0.0; s <= endS_; s += step) times.push_back(s);
    a.drawLevels(p, levels, [](double v) { return numberLabel(v); });
    a.drawTicks(p, times, timeLabel);
    for (const PlottedSection& s : sections_) {
        const double left = a.x.at(s.fromS), right = a.x.held(s.toS);
        QColor bed = ink(s.isChosen ? Token::Act : Token::Band);
        if (s.isChosen) bed.setAlphaF(0.16f);
        const double y = s.lufs ? a.y.held(*s.lufs) : a.rect.bottom();
        p.fillRect(QRectF(QPointF(left, y), QPointF(right, a.rect.bottom())), bed);
        p.setPen(QPen(ink(s.isChosen ? Token::Act : Token::Ink2), s.isChosen ? 2.0 : 1.2));
        p.drawLine(QPointF(left, y), QPointF(right, y));
        p.setPen(QPen(ink(Token::Rule), 1.0));
        p.drawLine(QPointF(left, a.rect.top() - 6), QPointF(left, a.rect.bottom()));
        p.setFont(Theme::instance().text(TextSize::Small, true));
        p.setPen(ink(Token::Ink));
        const QRectF name(left + 4, 6, right - left - 6, 18);
        if (name.width() > 14)
            p.drawText(name, Qt::AlignVCenter | Qt::AlignLeft,
                       p.fontMetrics().elidedText(s.name, Qt::ElideRight, int(name.width())));
    }
    QPolygonF line;
    for (std::size_t i = 0; i < lufs_.size(); ++i) line << a.point(kFirstS - 1.5 + double(i), double(lufs_[i]));
    p.setPen(QPen(ink(Token::Ink), 1.8));
    drawCurve(p, line);
}

void SongPlot::mousePressEvent(QMouseEvent* event)
{
    const double s = area().x.valueAt(event->position().x());
    for (std::size_t i = 0; i < sections_.size(); ++i)
        if (s >= sections_[i].fromS && s < sections_[i].toS) return emit choose(int(i));
}

} // namespace gristle::app
