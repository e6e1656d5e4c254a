#include "app/benches/double/offset_plot.h"

#include "core/units/early_note.h"

#include <QKeyEvent>
#include <QMouseEvent>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kLeft = 46.0, kRight = 62.0, kTop = 22.0;
constexpr double kLeastBar = 14.0;
constexpr double kCents = 20.0, kLevelDb = 9.0;

/// A stroke as long as a figure's doubt; none that its dot covers.
void drawDoubt(QPainter& p, const QColor& color, double x, double top, double bottom)
{
    if (bottom - top < 6.0) return;
    p.save();
    p.setPen(QPen(color, 1.0));
    p.drawLine(QPointF(x, top), QPointF(x, bottom));
    p.restore();
}

} // namespace

OffsetPlot::OffsetPlot(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("offsetPlot");
    setAccessibleName(tr("Notes of the second side, early or late, over the bars; arrows choose a bar, L loops it"));
    setFocusPolicy(Qt::StrongFocus);
    setMinimumHeight(240);
}

void OffsetPlot::clear()
{
    take_.reset();
    setAccessibleDescription({});
    changeStill();
}

void OffsetPlot::setPair(const DoubleTake& take, const DoubleLimits& limits, std::vector<double> barsS,
                         std::vector<StrayBar> strays)
{
    take_ = take;
    limits_ = limits;
    barsS_ = std::move(barsS);
    strays_ = std::move(strays);
    bar_ = std::clamp(bar_, 1, std::max(1, allBars()));
    QStringList said{
        tr("spread %1 ms, median %2 ms").arg(take.offsetSdMs, 0, 'f', 1).arg(take.offsetMedianMs, 0, 'f', 1)};
    for (const StrayBar& s : strays_) said << tr("bar %1: %2 ms").arg(s.bar).arg(s.offsetMs, 0, 'f', 0);
    setAccessibleDescription(said.join(", "));
    changeStill();
}

void OffsetPlot::setLoop(double fromBar, double toBar)
{
    loopFrom_ = fromBar, loopTo_ = toBar;
    update();
}

void OffsetPlot::setInHand(int bar, int lastBar)
{
    bar_ = bar, lastBar_ = lastBar;
    changeStill();
}

int OffsetPlot::bars() const
{
    return std::clamp(int((width() - kLeft - kRight) / kLeastBar), 1, std::max(1, allBars()));
}
int OffsetPlot::firstBar() const { return std::clamp(bar_ - bars() / 2, 1, std::max(1, allBars() - bars() + 1)); }

OffsetPlot::Areas OffsetPlot::areas() const
{
    const double w = width() - kLeft - kRight, h = height() - kTop - 22.0;
    const double small = std::clamp(0.17 * h, 34.0, 70.0), gap = 14.0;
    const double from = firstBar(), to = firstBar() + bars();
    const double reach = std::max(40.0, 1.35 * limits_.looseMs);
    const double big = h - 2.0 * (small + gap);
    const double usual = take_ ? std::round(take_->levelDifferenceDb) : 0.0;
    return {{QRectF(kLeft, kTop, w, big), Axis{from, to}, Axis{-reach, reach}},
            {QRectF(kLeft, kTop + big + gap, w, small), Axis{from, to}, Axis{-kCents, kCents}},
            {QRectF(kLeft, kTop + big + small + 2.0 * gap, w, small), Axis{from, to},
             Axis{usual - kLevelDb, usual + kLevelDb}}};
}

double OffsetPlot::barAt(double seconds) const
{
    const auto next = std::ranges::upper_bound(barsS_, seconds + kEarlyNoteS) - barsS_.begin();
    const auto bar = std::size_t(std::clamp<std::ptrdiff_t>(next, 1, std::max(1, allBars())));
    return double(bar) + (seconds - barsS_[bar - 1]) / (barsS_[bar] - barsS_[bar - 1]);
}

void OffsetPlot::drawStill(QPainter& p)
{
    if (!take_ || allBars() == 0) return drawEmpty(p, tr("Nothing to compare."));
    const Areas a = areas();
    const PlotArea& o = a.offset;
    const auto y = [&](double lateMs) { return o.y.held(-lateMs); }; // late is below
    // What is heard as what, from the middle out: the bands and their names.
    const auto band = [&](double fromMs, double toMs, double strength) {
        QColor color = ink(Token::Band);
        color.setAlphaF(float(strength));
        for (const int side : {-1, 1}) {
            const double y1 = y(side * fromMs), y2 = y(side * toMs);
            p.fillRect(QRectF(o.rect.left(), std::min(y1, y2), o.rect.width(), std::abs(y2 - y1)), color);
        }
    };
    band(limits_.oneMs, limits_.widthMs, 1.0);
    band(limits_.widthMs, limits_.looseMs, 0.4);
    o.drawLevels(p, {-limits_.looseMs, -limits_.widthMs, 0.0, limits_.widthMs, limits_.looseMs},
                 [](double v) { return numberLabel(std::abs(v)); });
    p.setFont(Theme::instance().text(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    const auto right = [&](double at, const QString& text) {
        p.drawText(QRectF(o.rect.right() + 6, at - 9, kRight - 6, 18), Qt::AlignLeft | Qt::AlignVCenter, text);
    };
    const double reach = o.y.high;
    right(y(0.0), tr("one"));
    for (const int side : {-1, 1}) {
        right(y(side * 0.5 * (limits_.oneMs + limits_.widthMs)), tr("width"));
        right(y(side * 0.5 * (limits_.widthMs + limits_.looseMs)), tr("loose"));
        right(y(side * 0.5 * (limits_.looseMs + reach)), tr("flam"));
    }
    p.drawText(QRectF(0, kTop - 20, kLeft + 80, 16), Qt::AlignLeft | Qt::AlignVCenter, tr("ms early"));
    drawLabel(p, {o.rect.left() + 4, o.rect.bottom() - 2}, tr("late"), Qt::AlignLeft | Qt::AlignBottom,
              ink(Token::Ink2), o.rect);
    a.cents.drawLevels(p, {-10.0, 0.0, 10.0}, [](double v) { return numberLabel(v); });
    const double usual = std::round(take_->levelDifferenceDb);
    a.level.drawLevels(p, {usual - 6.0, usual, usual + 6.0}, [](double v) { return numberLabel(v); });
    p.setFont(Theme::instance().text(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    p.drawText(QRectF(a.cents.rect.right() + 6, a.cents.rect.top(), kRight - 6, a.cents.rect.height()),
               Qt::AlignLeft | Qt::AlignVCenter, tr("cents\nsharp"));
    p.drawText(QRectF(a.level.rect.right() + 6, a.level.rect.top(), kRight - 6, a.level.rect.height()),
               Qt::AlignLeft | Qt::AlignVCenter, tr("dB\nlouder"));
    const int first = firstBar(), count = bars();
    const int every = o.rect.width() / count < 30.0 ? 4 : 1;
    p.setFont(Theme::instance().mono(TextSize::Small));
    for (int b = first; b <= first + count; ++b) {
        p.setPen(QPen(ink(Token::Rule), 1));
        for (const PlotArea* area : {&a.offset, &a.cents, &a.level})
            p.drawLine(QPointF(o.x.at(b), area->rect.top()), QPointF(o.x.at(b), area->rect.bottom()));
        p.setPen(ink(Token::Ink2));
        if (b < first + count && (b - 1) % every == 0)
            p.drawText(QRectF(o.x.at(b) + 3, a.level.rect.bottom() + 3, 40, 16), Qt::AlignLeft | Qt::AlignVCenter,
                       QString::number(b));
    }
    const double median = y(take_->offsetMedianMs);
    p.setPen(QPen(ink(Token::Ink), 1.2, Qt::DashLine));
    p.drawLine(QPointF(o.rect.left(), median), QPointF(o.rect.right(), median));
    // One standard deviation to either side of it, at the edge.
    p.setPen(QPen(ink(Token::Ink), 2.0));
    p.drawLine(QPointF(o.rect.left(), y(take_->offsetMedianMs - take_->offsetSdMs)),
               QPointF(o.rect.left(), y(take_->offsetMedianMs + take_->offsetSdMs)));
    if (std::abs(take_->driftMs) > 2.0 * take_->driftDoubtMs && !take_->notes.empty()) {
        p.save();
        p.setClipRect(o.rect);
        p.setPen(QPen(ink(Token::Ink2), 1.2));
        p.drawLine(QPointF(o.x.at(barAt(take_->notes.front().timeS)), y(take_->offsetMedianMs - 0.5 * take_->driftMs)),
                   QPointF(o.x.at(barAt(take_->notes.back().timeS)), y(take_->offsetMedianMs + 0.5 * take_->driftMs)));
        p.restore();
    }
    const auto isStray = [&](int bar) { return std::ranges::find(strays_, bar, &StrayBar::bar) != strays_.end(); };
    p.setPen(Qt::NoPen);
    for (const NotePair& n : take_->notes) {
        const auto at = std::ranges::upper_bound(barsS_, n.timeS + kEarlyNoteS);
        const int bar = int(at - barsS_.begin());
        if (bar < first || bar >= first + count || bar > allBars()) continue;
        const double x = o.x.held(barAt(n.timeS));
        const QColor color = ink(isStray(bar) ? Token::Act : Token::Ink);
        drawDoubt(p, color, x, y(n.offsetMs - 2.0 * n.offsetDoubtMs), y(n.offsetMs + 2.0 * n.offsetDoubtMs));
        p.setBrush(color);
        p.drawEllipse(QPointF(x, y(n.offsetMs)), 2.6, 2.6);
        p.setBrush(ink(Token::Ink2));
        if (n.cents) {
            drawDoubt(p, ink(Token::Ink2), x, a.cents.y.held(*n.cents + 2.0 * n.centsDoubt),
                      a.cents.y.held(*n.cents - 2.0 * n.centsDoubt));
            p.drawEllipse(QPointF(x, a.cents.y.held(*n.cents)), 1.8, 1.8);
        }
        p.drawEllipse(QPointF(x, a.level.y.held(n.levelDb)), 1.8, 1.8);
    }
    p.setBrush(Qt::NoBrush);
    p.setFont(Theme::instance().text(TextSize::Small, true));
    for (const StrayBar& s : strays_) {
        if (s.bar < first || s.bar >= first + count || s.bar > allBars()) continue;
        double farthest = s.offsetMs + take_->offsetMedianMs; // of its notes, so that the words cover none
        for (const NotePair& n : take_->notes)
            if (n.timeS + kEarlyNoteS >= barsS_[std::size_t(s.bar) - 1] &&
                n.timeS + kEarlyNoteS < barsS_[std::size_t(s.bar)])
                farthest = s.offsetMs > 0.0 ? std::max(farthest, n.offsetMs) : std::min(farthest, n.offsetMs);
        const double at = y(farthest);
        drawLabel(p, {o.x.at(s.bar + 0.5), at + (s.offsetMs > 0.0 ? 8.0 : -8.0)},
                  QStringLiteral("\u25b3 %1 ms").arg(numberLabel(std::abs(s.offsetMs))),
                  Qt::AlignHCenter | (s.offsetMs > 0.0 ? Qt::AlignTop : Qt::AlignBottom), ink(Token::Act), o.rect);
    }
    if (count < allBars()) {
        p.setFont(Theme::instance().text(TextSize::Small));
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(width() - 200, 2, 196, 16), Qt::AlignRight | Qt::AlignVCenter,
                   tr("of %1 bars").arg(allBars()));
    }
}

void OffsetPlot::drawMoving(QPainter& p)
{
    if (!take_ || allBars() == 0) return;
    const Areas a = areas();
    const double low = a.offset.x.low, high = a.offset.x.high;
    if (loopTo_ > low && loopFrom_ < high) {
        const double x1 = a.offset.x.held(loopFrom_), x2 = a.offset.x.held(loopTo_);
        p.fillRect(QRectF(x1, a.offset.rect.top() - 4, x2 - x1, 3), ink(Token::Ink2));
    }
    if (bar_ < low || bar_ >= high) return;
    p.setPen(QPen(ink(Token::Act), hasFocus() ? 2.2 : 1.2));
    p.setBrush(Qt::NoBrush);
    const double left = a.offset.x.at(bar_), right = a.offset.x.at(std::min(lastBar_ + 1.0, high));
    p.drawRect(QRectF(left, a.offset.rect.top(), right - left, a.level.rect.bottom() - a.offset.rect.top()));
}

void OffsetPlot::mousePressEvent(QMouseEvent* event)
{
    if (!take_ || allBars() == 0) return;
    emit choose(std::clamp(int(std::floor(areas().offset.x.valueAt(event->position().x()))), 1, allBars()));
}

void OffsetPlot::keyPressEvent(QKeyEvent* event)
{
    const int by = event->key() == Qt::Key_Left ? -1 : event->key() == Qt::Key_Right ? 1 : 0;
    if (by == 0 || allBars() == 0) return QWidget::keyPressEvent(event);
    emit choose(std::clamp(bar_ + by, 1, allBars()));
}

} // namespace gristle::app
