#include "app/benches/level/check_pictures.h"

namespace gristle::app {

using namespace core;

namespace {

constexpr double kNeedleRangeDb = 15.0;

} // namespace

TurnPicture::TurnPicture(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("turnPicture");
    setAccessibleName(tr("Hum while you turn"));
    setMinimumHeight(170);
}

void TurnPicture::setTrace(const std::vector<HumPoint>& trace, double secondsInAll)
{
    trace_ = trace;
    seconds_ = std::max(secondsInAll, trace.empty() ? 0.0 : trace.back().timeS);
    if (!trace_.empty()) {
        const HumTurn turn = humTurn(trace_);
        setAccessibleDescription(tr("hum now %1 dBFS, least %2, most %3")
                                     .arg(trace_.back().levelDbfs, 0, 'f', 1)
                                     .arg(turn.best.levelDbfs, 0, 'f', 1)
                                     .arg(turn.worst.levelDbfs, 0, 'f', 1));
    }
    update();
}

void TurnPicture::drawMoving(QPainter& p)
{
    double low = -90.0, high = -70.0;
    if (!trace_.empty()) low = 0.0, high = -140.0;
    for (const HumPoint& point : trace_) {
        low = std::min(low, std::max(-140.0, std::floor((point.levelDbfs - 5.0) / 10.0) * 10.0));
        high = std::max(high, std::ceil((point.levelDbfs + 5.0) / 10.0) * 10.0);
    }
    const PlotArea area(QRectF(44, 8, width() - 44 - 10, height() - 8 - 26), Axis{0.0, seconds_}, Axis{low, high});
    std::vector<double> levels, seconds;
    for (double v = high; v >= low; v -= 10.0) levels.push_back(v);
    for (double s = 0.0; s <= seconds_; s += 3.0) seconds.push_back(s);
    area.drawLevels(p, levels, [](double v) { return numberLabel(v); });
    area.drawTicks(p, seconds, [this](double s) { return s == 0.0 ? tr("0 s") : numberLabel(s); });
    if (trace_.empty()) return;
    QPolygonF line;
    for (const HumPoint& point : trace_) line << area.point(point.timeS, point.levelDbfs);
    p.setPen(QPen(ink(Token::Ink), 1.8));
    drawCurve(p, line);
    const HumTurn turn = humTurn(trace_);
    p.setFont(Theme::instance().text(TextSize::Normal, true));
    const auto mark = [&](const HumPoint& point, const QString& text, Qt::Alignment side, double away) {
        const QPointF at = area.point(point.timeS, point.levelDbfs);
        p.setPen(QPen(ink(Token::Ink), 2));
        p.drawLine(at - QPointF(0, 7), at + QPointF(0, 7));
        drawLabel(p, at + QPointF(8, away), text, side, ink(Token::Ink), area.rect);
    };
    mark(turn.worst, tr("most, %1").arg(numberLabel(turn.worst.levelDbfs, 1)), Qt::AlignLeft | Qt::AlignBottom, -4);
    mark(turn.best, tr("least, %1").arg(numberLabel(turn.best.levelDbfs, 1)), Qt::AlignLeft | Qt::AlignTop, 4);
}

NeedlePicture::NeedlePicture(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("needlePicture");
    setAccessibleName(tr("What remains to be turned"));
    setMinimumHeight(170);
}

void NeedlePicture::set(std::optional<double> remainingDb, int agreeing, int wanted, double agreeDb)
{
    remaining_ = remainingDb;
    agreeing_ = agreeing;
    wanted_ = wanted;
    agree_ = agreeDb;
    setAccessibleDescription(
        remaining_ ? tr("%1 dB to turn, %2 of %3 bars agree").arg(*remaining_, 0, 'f', 1).arg(agreeing).arg(wanted)
                   : tr("nothing played yet"));
    update();
}

void NeedlePicture::drawMoving(QPainter& p)
{
    const double left = 30, right = width() - 30, middle = height() * 0.62;
    const int tall = std::clamp(int(height() * 0.36), 46, 150); // to be read from two metres
    const Axis x{-kNeedleRangeDb, kNeedleRangeDb, left, right};
    p.fillRect(QRectF(x.at(-agree_), middle - 44, x.at(agree_) - x.at(-agree_), 88), ink(Token::Band));
    p.setPen(QPen(ink(Token::Rule), 1));
    p.drawLine(QPointF(left, middle), QPointF(right, middle));
    p.setFont(Theme::instance().mono(TextSize::Reading));
    for (double v = -kNeedleRangeDb; v <= kNeedleRangeDb; v += 5.0) {
        p.setPen(QPen(ink(Token::Ink3), 1));
        p.drawLine(QPointF(x.at(v), middle - 9), QPointF(x.at(v), middle + 9));
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(x.at(v) - 40, middle + 48, 80, 26), Qt::AlignCenter,
                   (v > 0.0 ? QStringLiteral("+") : QString()) + numberLabel(v));
    }
    p.setFont(Theme::instance().text(TextSize::Reading));
    p.drawText(QRectF(left, middle + 80, 300, 26), Qt::AlignLeft | Qt::AlignVCenter, tr("turn it down"));
    p.drawText(QRectF(right - 300, middle + 80, 300, 26), Qt::AlignRight | Qt::AlignVCenter, tr("turn it up"));
    // Bars that agree, as filled squares.
    for (int i = 0; i < wanted_; ++i) {
        const QRectF box(0.5 * (left + right) - 12.0 * wanted_ * 1.5 + i * 36.0, middle + 80, 24, 24);
        p.setPen(QPen(ink(Token::Ink2), 1.5));
        p.setBrush(i < agreeing_ ? QBrush(ink(Token::Ink)) : QBrush(Qt::NoBrush));
        p.drawRect(box);
    }
    p.setBrush(Qt::NoBrush);
    QFont figure = Theme::instance().mono(TextSize::Big, true);
    figure.setPixelSize(tall);
    p.setFont(figure);
    p.setPen(ink(Token::Ink));
    const QString text = remaining_
                             ? (*remaining_ > 0.0 ? QStringLiteral("+") : QString()) + numberLabel(*remaining_, 1)
                             : QString(QChar(0x2013));
    p.drawText(QRectF(0, 0, width(), middle - 60), Qt::AlignCenter, text);
    if (!remaining_) return;
    const bool there = std::abs(*remaining_) <= agree_;
    p.setPen(QPen(ink(there ? Token::Ink : Token::Act), 6, Qt::SolidLine, Qt::FlatCap));
    const double at = x.held(*remaining_);
    p.drawLine(QPointF(at, middle - 60), QPointF(at, middle + 40));
}

} // namespace gristle::app
