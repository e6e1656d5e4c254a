#include "app/benches/cab/compare_plot.h"

#include "core/impulse/impulse_difference.h"

namespace gristle::app {

using namespace core;

ComparePlot::ComparePlot(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("comparePlot");
    setAccessibleName(tr("Responses against the one chosen as zero"));
    setMinimumHeight(130);
    setEmptyText(tr("Choose an impulse: its curve comes here."));
}

void ComparePlot::setCurves(const QString& zeroName, std::vector<Curve> curves)
{
    zeroName_ = zeroName;
    curves_ = std::move(curves);
    QStringList told;
    for (const Curve& c : curves_)
        told << tr("%1: %2").arg(c.name, zeroName_.isEmpty() ? tr("as it is")
                                                             : QString::fromStdString(differenceWords(c.points)));
    setAccessibleDescription(told.join(". "));
    changeStill();
}

void ComparePlot::drawStill(QPainter& p)
{
    if (curves_.empty()) return drawEmpty(p, emptyText_);
    const bool isAgainst = !zeroName_.isEmpty();
    const PlotArea area(QRectF(44, 22, width() - 60, height() - 46), Axis{50.0, 16000.0, 0, 1, true},
                        isAgainst ? Axis{-12.0, 12.0} : Axis{-30.0, 12.0});
    area.drawLevels(
        p, isAgainst ? std::vector<double>{9, 6, 3, 0, -3, -6, -9} : std::vector<double>{6, 0, -6, -12, -18, -24},
        [](double v) { return v > 0 ? "+" + numberLabel(v) : numberLabel(v); });
    area.drawTicks(p, {50, 100, 200, 500, 1000, 2000, 5000, 10000}, hzLabel);
    p.setFont(Theme::instance().text(TextSize::Small));
    drawLabel(p, {area.rect.left(), 9},
              isAgainst ? tr("dB against %1, as loud").arg(p.fontMetrics().elidedText(zeroName_, Qt::ElideMiddle, 320))
                        : tr("response, dB"),
              Qt::AlignLeft | Qt::AlignVCenter, ink(Token::Ink2), QRectF(rect()));
    if (isAgainst) {
        p.setPen(QPen(ink(Token::Ink), 1.2));
        p.drawLine(area.point(50.0, 0.0), area.point(16000.0, 0.0));
    }
    static constexpr Qt::PenStyle kStyles[] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};
    // Four kinds of line, then the same in a fainter ink.
    const auto penOf = [](std::size_t i) {
        return QPen(ink(i == 0 ? Token::Act : i < 4 ? Token::Ink : Token::Ink3), i == 0 ? 2.4 : 1.5, kStyles[i % 4]);
    };
    p.setClipRect(area.rect.adjusted(0, -1, 0, 1));
    for (std::size_t i = curves_.size(); i-- > 0;) { // the chosen one on top
        QPolygonF line;
        for (const ResponsePoint& r : curves_[i].points)
            if (r.hz >= 50.0 && r.hz <= 16000.0) line << QPointF(area.x.at(r.hz), area.y.at(r.db));
        p.setPen(penOf(i));
        p.drawPolyline(line);
    }
    p.setClipping(false);
    // The names in rows from the bottom up, the first ones lowest.
    double x = area.rect.left() + 8, y = area.rect.bottom() - 9;
    for (std::size_t i = 0; i < curves_.size(); ++i) {
        const QString name = p.fontMetrics().elidedText(curves_[i].name, Qt::ElideMiddle, 170);
        const double wide = 44 + p.fontMetrics().horizontalAdvance(name);
        if (x + wide > area.rect.right()) x = area.rect.left() + 8, y -= 16;
        p.setPen(penOf(i));
        p.drawLine(QPointF(x, y), QPointF(x + 24, y));
        drawLabel(p, {x + 29, y}, name, Qt::AlignLeft | Qt::AlignVCenter, ink(Token::Ink), area.rect);
        x += wide;
    }
}

} // namespace gristle::app
