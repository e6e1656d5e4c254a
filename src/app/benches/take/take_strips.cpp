#include "app/benches/take/take_strips.h"

#include "core/units/early_note.h"

#include <QKeyEvent>
#include <QMouseEvent>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kGutter = 108.0, kHead = 24.0;
constexpr double kRangeMs = 35.0; // from the middle of a strip to its edge
constexpr double kLeastBar = 34.0, kLeastRow = 44.0, kMostRow = 120.0;

} // namespace

TakeStrips::TakeStrips(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("takeStrips");
    setAccessibleName(tr("Takes, bar by bar. Arrows choose a bar of a take, Enter takes it, L loops it"));
    setFocusPolicy(Qt::StrongFocus);
    setMinimumHeight(180);
}

void TakeStrips::setTakes(std::vector<JudgedTake> takes, std::vector<int> heard, std::size_t counts,
                          std::vector<double> barsS)
{
    takes_ = std::move(takes);
    heard_ = std::move(heard);
    counts_ = counts;
    barsS_ = std::move(barsS);
    QStringList said;
    for (std::size_t i = 0; i < takes_.size(); ++i)
        said << tr("Take %1: %2").arg(i + 1).arg(QString::fromStdString(takes_[i].judgement.sentence));
    setAccessibleDescription(said.join(' '));
    changeStill();
}

void TakeStrips::setInHand(int take, int bar)
{
    if (take == take_ && bar == bar_) return;
    take_ = take, bar_ = bar;
    changeStill(); // other bars may come into view
}

void TakeStrips::setNow(std::optional<double> bar)
{
    if (bar == now_) return;
    now_ = bar;
    update();
}

void TakeStrips::setLoop(double fromBar, double toBar)
{
    loopFrom_ = fromBar, loopTo_ = toBar;
    update();
}

QRectF TakeStrips::Layout::cell(int take, int bar) const
{
    return {cells.left() + (bar - firstBar) * barWidth, cells.top() + (take - firstTake) * rowHeight, barWidth,
            rowHeight};
}

/// As many bars and takes as there is room for, those in hand among them.
TakeStrips::Layout TakeStrips::layout() const
{
    Layout out;
    out.cells = QRectF(kGutter, kHead, width() - kGutter - 4, height() - kHead - 4);
    const int fitBars = std::max(1, int(out.cells.width() / kLeastBar));
    const int fitTakes = std::max(1, int(out.cells.height() / kLeastRow));
    out.bars = std::min(fitBars, allBars());
    out.takes = std::min(fitTakes, int(takes_.size()));
    if (out.bars > 0) {
        out.firstBar = std::clamp(bar_ - out.bars / 2, 1, std::max(1, allBars() - out.bars + 1));
        out.barWidth = out.cells.width() / out.bars;
    }
    if (out.takes > 0) {
        out.firstTake = std::clamp(take_ - out.takes / 2, 0, std::max(0, int(takes_.size()) - out.takes));
        out.rowHeight = std::min(kMostRow, out.cells.height() / out.takes);
    }
    return out;
}

void TakeStrips::drawCell(QPainter& p, const QRectF& cell, int take, int bar) const
{
    const JudgedTake& judged = takes_[std::size_t(take)];
    const auto at = std::ranges::find(judged.judgement.bars, bar, &BarVerdict::bar);
    const double middle = cell.top() + 0.5 * (cell.height() - 6.0);
    const bool isHeard = std::size_t(bar) <= heard_.size() && heard_[std::size_t(bar) - 1] == take;
    if (isHeard) {
        p.fillRect(cell.adjusted(0, 3, 0, -6), ink(Token::Band));
        p.fillRect(QRectF(cell.left(), cell.bottom() - 6, cell.width(), 3), ink(Token::Ink));
    }
    p.setPen(QPen(ink(Token::Rule), 1));
    p.drawLine(QPointF(cell.left(), cell.top() + 4), QPointF(cell.left(), cell.bottom() - 6));
    if (at == judged.judgement.bars.end()) return;
    p.drawLine(QPointF(cell.left(), middle), QPointF(cell.right(), middle));
    const double fromS = barsS_[std::size_t(bar) - 1], toS = barsS_[std::size_t(bar)];
    const double reach = 0.5 * (cell.height() - 6.0) - 4.0;
    const QColor color = ink(at->isBad ? Token::Act : Token::Ink2);
    p.setPen(Qt::NoPen);
    p.setBrush(color);
    for (const PlayedNote& n : judged.measure->notes) {
        if (n.timeS < fromS - kEarlyNoteS || n.timeS >= toS - kEarlyNoteS) continue;
        const double x =
            cell.left() + 3.0 + (cell.width() - 6.0) * std::clamp((n.timeS - fromS) / (toS - fromS), 0.0, 1.0);
        const double late = n.clickMs.value_or(0.0);
        const double y = middle + reach * std::clamp(late / kRangeMs, -1.0, 1.0);
        if (n.clickMs)
            p.drawEllipse(QPointF(x, y), 2.1, 2.1);
        else // when, but not how late
            p.drawRect(QRectF(x - 0.5, middle - 4, 1, 8));
    }
    p.setBrush(Qt::NoBrush);
    if (at->word.empty()) return;
    p.setFont(Theme::instance().text(TextSize::Small, at->isBad));
    p.setPen(color);
    const QString mark = at->clipped > 0 ? QStringLiteral("\u25a0")
                         : at->isBad     ? QStringLiteral("\u25b3")
                                         : QStringLiteral("\u25cf");
    const auto room = [&](const QString& text) { return p.fontMetrics().horizontalAdvance(text) < cell.width() - 6.0; };
    QString words = mark;
    for (const std::string& text : {at->sign, at->word})
        if (const QString longer = mark + " " + QString::fromStdString(text); room(longer)) words = longer;
    // Where its dots are not: late ones are low.
    const double top = at->strayMs.value_or(0.0) > 0.0 ? cell.top() + 4 : cell.bottom() - 24;
    const QRectF place(cell.left() + 4, top, cell.width() - 6, 16);
    p.fillRect(QRectF(place.left() - 1, place.top() + 1, p.fontMetrics().horizontalAdvance(words) + 3, 14),
               ink(isHeard ? Token::Band : Token::Ground));
    p.drawText(place, Qt::AlignLeft | Qt::AlignVCenter, words);
}

void TakeStrips::drawStill(QPainter& p)
{
    const Layout l = layout();
    if (l.takes == 0 || l.bars == 0) {
        drawEmpty(p, tr("No take yet."));
        return;
    }
    p.setFont(Theme::instance().mono(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    const int every = l.barWidth < 24.0 ? 4 : 1;
    for (int b = l.firstBar; b < l.firstBar + l.bars; ++b)
        if ((b - 1) % every == 0)
            p.drawText(QRectF(l.cell(0, b).left() + 3, 2, 60, kHead - 4), Qt::AlignLeft | Qt::AlignVCenter,
                       QString::number(b));
    p.setFont(Theme::instance().text(TextSize::Small));
    p.drawText(QRectF(0, 2, kGutter - 8, kHead - 4), Qt::AlignLeft | Qt::AlignVCenter, tr("bar"));
    for (int t = l.firstTake; t < l.firstTake + l.takes; ++t) {
        const QRectF row = l.cell(t, l.firstBar);
        const bool counts = std::size_t(t) == counts_;
        p.setFont(Theme::instance().text(TextSize::Normal, counts));
        p.setPen(ink(Token::Ink));
        p.drawText(QRectF(0, row.top() + 4, kGutter - 8, 20), Qt::AlignLeft | Qt::AlignVCenter,
                   counts ? tr("Take %1 counts").arg(t + 1) : tr("Take %1").arg(t + 1));
        p.setFont(Theme::instance().text(TextSize::Small));
        p.setPen(ink(Token::Ink2));
        const auto& judged = takes_[std::size_t(t)];
        const QString under = !judged.measure ? tr("not judged")
                              : judged.judgement.timingSdMs
                                  ? QStringLiteral("\u00b1 %1 ms").arg(*judged.judgement.timingSdMs, 0, 'f', 1)
                                  : tr("free time");
        p.drawText(QRectF(0, row.top() + 22, kGutter - 8, 16), Qt::AlignLeft | Qt::AlignVCenter, under);
        for (int b = l.firstBar; b < l.firstBar + l.bars; ++b) drawCell(p, l.cell(t, b), t, b);
    }
    if (l.takes < int(takes_.size()) || l.bars < allBars()) {
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(width() - 260, 2, 256, kHead - 4), Qt::AlignRight | Qt::AlignVCenter,
                   tr("%1 takes, %2 bars in all").arg(takes_.size()).arg(allBars()));
    }
}

void TakeStrips::drawMoving(QPainter& p)
{
    const Layout l = layout();
    if (l.takes == 0 || l.bars == 0) return;
    const auto x = [&](double bar) {
        return std::clamp(l.cells.left() + (bar - l.firstBar) * l.barWidth, l.cells.left(), l.cells.right());
    };
    if (loopTo_ > loopFrom_ && x(loopTo_) > x(loopFrom_))
        p.fillRect(QRectF(x(loopFrom_), kHead - 3, x(loopTo_) - x(loopFrom_), 3), ink(Token::Ink2));
    if (take_ < int(takes_.size()) && bar_ >= 1 && bar_ <= allBars()) {
        p.setPen(QPen(ink(Token::Act), hasFocus() ? 2.2 : 1.2));
        p.setBrush(Qt::NoBrush);
        p.drawRect(l.cell(take_, bar_).adjusted(1, 2, -1, -2));
    }
    if (now_ && *now_ >= l.firstBar && *now_ <= l.firstBar + l.bars) {
        p.setPen(QPen(ink(Token::Act), 1.5));
        p.drawLine(QPointF(x(*now_), kHead), QPointF(x(*now_), l.cells.top() + l.takes * l.rowHeight));
    }
}

void TakeStrips::mousePressEvent(QMouseEvent* event)
{
    const Layout l = layout();
    if (l.takes == 0 || l.bars == 0) return;
    const int bar = l.firstBar + int((event->position().x() - l.cells.left()) / l.barWidth);
    const int take = l.firstTake + int((event->position().y() - l.cells.top()) / l.rowHeight);
    if (event->position().y() < l.cells.top() || take >= l.firstTake + l.takes) return;
    emit choose(take, std::clamp(bar, l.firstBar, l.firstBar + l.bars - 1));
}

void TakeStrips::mouseDoubleClickEvent(QMouseEvent*) { emit use(); }

void TakeStrips::keyPressEvent(QKeyEvent* event)
{
    const int most = int(takes_.size()) - 1;
    switch (event->key()) {
    case Qt::Key_Left: return void(emit choose(take_, std::max(1, bar_ - 1)));
    case Qt::Key_Right: return void(emit choose(take_, std::min(std::max(1, allBars()), bar_ + 1)));
    case Qt::Key_Up: return void(emit choose(std::max(0, take_ - 1), bar_));
    case Qt::Key_Down: return void(emit choose(std::min(std::max(0, most), take_ + 1), bar_));
    case Qt::Key_Return:
    case Qt::Key_Enter: return void(emit use());
    default: QWidget::keyPressEvent(event);
    }
}

void TakeStrips::focusInEvent(QFocusEvent*) { update(); }
void TakeStrips::focusOutEvent(QFocusEvent*) { update(); }

} // namespace gristle::app
