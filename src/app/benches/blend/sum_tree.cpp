#include "app/benches/blend/sum_tree.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainterPath>
#include <algorithm>

namespace gristle::app {

namespace {

constexpr double kLeastRow = 26.0, kMostRow = 64.0, kTop = 12.0, kSumWidth = 128.0, kMostLeaf = 250.0;

/// Half a tenth is no gain.
QString lossText(double lossDb)
{
    return SumTree::tr("%1 %2 dB")
        .arg(lossDb < -0.05 ? SumTree::tr("gains") : SumTree::tr("loses"), numberLabel(std::abs(lossDb), 1));
}

} // namespace

SumTree::SumTree(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("sumTree");
    setAccessibleName(tr("What meets where"));
    setFocusPolicy(Qt::StrongFocus);
}

void SumTree::setSignals(std::vector<TreeSignal> all, int chosen)
{
    all_ = std::move(all), chosen_ = chosen;
    QStringList said;
    for (const TreeSignal& s : all_)
        said << (s.into < 0 ? s.name : tr("%1 runs into %2").arg(s.name, all_[std::size_t(s.into)].name)) +
                    (s.lossDb ? tr(", loses %1 dB").arg(numberLabel(*s.lossDb, 1)) : QString());
    setAccessibleDescription(said.join("; "));
    updateGeometry();
    changeStill();
}

int SumTree::leaves() const
{
    int out = 0;
    for (std::size_t i = 0; i < all_.size(); ++i)
        out += std::ranges::none_of(all_, [&](const TreeSignal& s) { return s.into == int(i); }) ? 1 : 0;
    return out;
}

QSize SumTree::sizeHint() const { return {420, int(2.0 * kTop + kLeastRow * std::max(4, leaves()))}; }

/// Leaves one under the other, in the order in which they meet; a sum stands at the middle of what runs into it.
std::vector<SumTree::Spot> SumTree::spots() const
{
    std::vector<Spot> out(all_.size());
    double next = 0.5;
    const auto visit = [&](const auto& self, int at, int depth) -> double {
        double first = -1.0, last = 0.0;
        for (int i = 0; i < int(all_.size()); ++i) {
            if (all_[std::size_t(i)].into != at) continue;
            last = self(self, i, depth + (all_[std::size_t(at)].isSum ? 1 : 0));
            if (first < 0.0) first = last;
        }
        if (first < 0.0) first = last = next++;
        out[std::size_t(at)] = {0.5 * (first + last), depth};
        return out[std::size_t(at)].row;
    };
    for (int i = 0; i < int(all_.size()); ++i)
        if (all_[std::size_t(i)].into < 0) visit(visit, i, 0);
    return out;
}

QPointF SumTree::pointOf(int index, const std::vector<Spot>& all) const
{
    int deepest = 1;
    for (std::size_t i = 0; i < all.size(); ++i)
        if (all_[i].isSum) deepest = std::max(deepest, all[i].depth + 1);
    const double leaf = std::min(kMostLeaf, 0.45 * width());
    const double step = std::max(60.0, (width() - leaf - kSumWidth) / deepest);
    const Spot& spot = all[std::size_t(index)];
    const double x = all_[std::size_t(index)].isSum ? width() - kSumWidth - spot.depth * step : leaf;
    const double row = std::clamp((height() - 2.0 * kTop) / std::max(1, leaves()), kLeastRow, kMostRow);
    return {x, kTop + spot.row * row};
}

void SumTree::drawStill(QPainter& p)
{
    p.setRenderHint(QPainter::Antialiasing);
    if (all_.size() < 2) return drawEmpty(p, tr("No layers with takes in this song yet."));
    const auto all = spots();
    const auto run = [&](int from, int to, const QColor& color, double pen) {
        QPointF a = pointOf(from, all);
        const QPointF b = pointOf(to, all);
        QPainterPath path(a);
        if (all_[std::size_t(from)].isSum && b.x() > a.x()) { // straight on between its name and its figure
            a.rx() += std::min(kSumWidth - 10.0, 0.7 * (b.x() - a.x()));
            path.lineTo(a);
        }
        const double half = 0.5 * (b.x() - a.x());
        path.cubicTo(a + QPointF(half, 0.0), b - QPointF(half, 0.0), b);
        p.setPen(QPen(color, pen));
        p.setBrush(Qt::NoBrush);
        p.drawPath(path);
    };
    for (int i = 0; i < int(all_.size()); ++i) {
        const TreeSignal& s = all_[std::size_t(i)];
        for (const int to : s.sends) run(i, to, ink(Token::Rule), 1.0);
        if (s.into >= 0) run(i, s.into, ink(Token::Ink2), s.isSum ? 2.4 : 1.4);
    }
    for (int i = 0; i < int(all_.size()); ++i) {
        const TreeSignal& s = all_[std::size_t(i)];
        const QPointF at = pointOf(i, all);
        if (!s.isSum) {
            const double figure = 66.0;
            p.setPen(ink(Token::Ink));
            p.setFont(Theme::instance().text(TextSize::Small));
            const QRectF name(0, at.y() - 10, at.x() - figure - 8, 20);
            p.drawText(name, Qt::AlignVCenter | Qt::AlignLeft,
                       p.fontMetrics().elidedText(s.name, Qt::ElideRight, int(name.width())));
            p.setPen(ink(Token::Ink2));
            p.setFont(Theme::instance().mono(TextSize::Small));
            p.drawText(QRectF(at.x() - figure - 6, at.y() - 10, figure, 20), Qt::AlignVCenter | Qt::AlignRight,
                       s.level);
            continue;
        }
        const QColor color = ink(s.isBad ? Token::Act : Token::Ink);
        p.setPen(Qt::NoPen);
        p.setBrush(color);
        p.drawEllipse(at, 4.5, 4.5);
        QFont font = Theme::instance().text(TextSize::Small, true);
        p.setFont(font);
        p.setPen(ink(Token::Ink));
        const QRectF name(at.x() + 8, at.y() - 22, kSumWidth - 12,
                          18); // over the line that goes on, its figure under it
        p.drawText(name, Qt::AlignVCenter | Qt::AlignLeft,
                   p.fontMetrics().elidedText(s.name, Qt::ElideRight, int(name.width())));
        p.setFont(Theme::instance().mono(TextSize::Small));
        p.setPen(s.isBad ? ink(Token::Act) : ink(Token::Ink2));
        p.drawText(name.translated(0, 26), Qt::AlignVCenter | Qt::AlignLeft,
                   s.lossDb ? lossText(*s.lossDb) : QString(QChar(0x2013)));
    }
}

/// A line under the sum that is chosen.
void SumTree::drawMoving(QPainter& p)
{
    if (chosen_ < 0 || chosen_ >= int(all_.size()) || all_.size() < 2) return;
    const QPointF at = pointOf(chosen_, spots());
    p.setPen(QPen(ink(Token::Act), hasFocus() ? 2.5 : 1.5));
    p.drawLine(at + QPointF(8, 23), at + QPointF(kSumWidth - 6, 23));
}

void SumTree::mousePressEvent(QMouseEvent* event)
{
    const auto all = spots();
    for (int i = 0; i < int(all_.size()); ++i) {
        const QRectF box(pointOf(i, all) - QPointF(8, 23), QSizeF(kSumWidth, 46));
        if (all_[std::size_t(i)].isSum && box.contains(event->position())) return emit choose(i);
    }
}

void SumTree::keyPressEvent(QKeyEvent* event)
{
    const int step = event->key() == Qt::Key_Up ? -1 : event->key() == Qt::Key_Down ? 1 : 0;
    if (step == 0) return PlotWidget::keyPressEvent(event);
    for (int i = chosen_ + step; i >= 0 && i < int(all_.size()); i += step)
        if (all_[std::size_t(i)].isSum) return emit choose(i);
}

} // namespace gristle::app
