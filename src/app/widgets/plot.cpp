#include "app/widgets/plot.h"

#include <algorithm>
#include <cmath>

namespace gristle::app {

double Axis::at(double value) const
{
    const double part = logarithmic ? std::log(value / low) / std::log(high / low) : (value - low) / (high - low);
    return from + part * (to - from);
}

double Axis::valueAt(double pixel) const
{
    const double part = (pixel - from) / (to - from);
    return logarithmic ? low * std::pow(high / low, part) : low + part * (high - low);
}

PlotArea::PlotArea(const QRectF& inner, Axis xAxis, Axis yAxis) : rect(inner), x(xAxis), y(yAxis)
{
    x.from = rect.left();
    x.to = rect.right();
    y.from = rect.bottom();
    y.to = rect.top();
}

void PlotArea::drawLevels(QPainter& p, const std::vector<double>& values,
                          const std::function<QString(double)>& label) const
{
    p.setFont(Theme::instance().mono(TextSize::Small));
    for (const double v : values) {
        const double py = std::round(y.at(v)) + 0.5;
        p.setPen(QPen(ink(Token::Rule), 1));
        p.drawLine(QPointF(rect.left(), py), QPointF(rect.right(), py));
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(rect.left() - 64, py - 9, 56, 18), Qt::AlignRight | Qt::AlignVCenter, label(v));
    }
}

void PlotArea::drawTicks(QPainter& p, const std::vector<double>& values,
                         const std::function<QString(double)>& label) const
{
    p.setFont(Theme::instance().mono(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    double taken = -1e9;
    for (const double v : values) {
        const QString text = label(v);
        const double px = x.at(v);
        const double half = p.fontMetrics().horizontalAdvance(text) / 2.0;
        if (px - half < taken + 6.0 || px < rect.left() - 1 || px > rect.right() + 1) continue;
        p.drawText(QRectF(px - half - 2, rect.bottom() + 5, 2 * half + 4, 18), Qt::AlignCenter, text);
        taken = px + half;
    }
}

QString hzLabel(double hz)
{
    return hz >= 1000.0 ? QString::number(hz / 1000.0, 'g', 3) + QStringLiteral(" k") : QString::number(hz, 'g', 4);
}

QString numberLabel(double value, int digits)
{
    QString text = QString::number(value, 'f', digits);
    if (text.startsWith('-')) text.replace(0, 1, QChar(0x2212));
    return text;
}

void drawCurve(QPainter& p, const QPolygonF& line)
{
    constexpr qsizetype kPiece = 8;
    p.save();
    QPen pen = p.pen();
    pen.setCapStyle(Qt::RoundCap); // where two pieces meet
    pen.setJoinStyle(Qt::RoundJoin);
    p.setPen(pen);
    for (qsizetype i = 0; i + 1 < line.size(); i += kPiece)
        p.drawPolyline(line.constData() + i, int(std::min(kPiece + 1, line.size() - i)));
    p.restore();
}

void drawLabel(QPainter& p, QPointF at, const QString& text, Qt::Alignment alignment, const QColor& color,
               const QRectF& bounds)
{
    QRectF r = p.fontMetrics().boundingRect(text);
    r.setSize(QSizeF(p.fontMetrics().horizontalAdvance(text) + 6.0, p.fontMetrics().height()));
    r.moveTopLeft(at);
    if (alignment & Qt::AlignHCenter) r.moveLeft(at.x() - r.width() / 2.0);
    if (alignment & Qt::AlignRight) r.moveRight(at.x());
    if (alignment & Qt::AlignVCenter) r.moveTop(at.y() - r.height() / 2.0);
    if (alignment & Qt::AlignBottom) r.moveBottom(at.y());
    if (r.left() < bounds.left()) r.moveLeft(bounds.left());
    if (r.right() > bounds.right()) r.moveRight(bounds.right());
    QColor ground = ink(Token::Ground);
    ground.setAlphaF(0.85f);
    p.fillRect(r, ground);
    p.setPen(color);
    p.drawText(r, Qt::AlignCenter, text);
}

PlotWidget::PlotWidget(QWidget* parent) : QWidget(parent)
{
    connect(&Theme::instance(), &Theme::changed, this, &PlotWidget::changeStill);
}

void PlotWidget::changeStill()
{
    still_ = {};
    update();
}

void PlotWidget::paintEvent(QPaintEvent*)
{
    const QSize pixels = size() * devicePixelRatioF();
    if (still_.size() != pixels) {
        still_ = QPixmap(pixels);
        still_.setDevicePixelRatio(devicePixelRatioF());
        still_.fill(Qt::transparent);
        QPainter p(&still_);
        p.setRenderHint(QPainter::Antialiasing);
        drawStill(p);
    }
    QPainter p(this);
    p.drawPixmap(0, 0, still_);
    p.setRenderHint(QPainter::Antialiasing);
    drawMoving(p);
}

void PlotWidget::setEmptyText(const QString& text)
{
    if (text == emptyText_) return;
    emptyText_ = text;
    changeStill();
}

void PlotWidget::drawEmpty(QPainter& p, const QString& fallback)
{
    p.setFont(Theme::instance().text());
    p.setPen(ink(Token::Ink3));
    p.drawText(rect(), Qt::AlignCenter | Qt::TextWordWrap, emptyText_.isEmpty() ? fallback : emptyText_);
}

} // namespace gristle::app
