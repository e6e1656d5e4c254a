#include "app/benches/rig/ladder.h"

#include "core/advice/finding.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QToolTip>
#include <utility>

namespace gristle::app {

using namespace core;

QString settingWords(const RigNode& node)
{
    if (node.bypass) return Ladder::tr("bypassed");
    if (node.isSplit()) return Ladder::tr("%1 lanes").arg(node.lanes.size());
    const NodeType* type = findNodeType(node.type);
    if (!type) return Ladder::tr("not known");
    const auto values = completeValues(*type, node.values);
    for (const ParameterSpec& spec : type->parameters) { // the first that says most
        const QString text = QString::fromStdString(valueText(values.at(spec.key)));
        if (spec.kind == ParameterKind::File) return text.section('/', -1).section('.', 0, 0);
        return QString::fromStdString(spec.label) + " " + text +
               (spec.unit.empty() || spec.kind == ParameterKind::Time ? QString()
                                                                      : " " + QString::fromStdString(spec.unit));
    }
    return {};
}

Ladder::Ladder(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("ladder");
    setAccessibleName(tr("Level through the chain"));
    setFocusPolicy(Qt::StrongFocus);
    setMinimumHeight(200);
    setMouseTracking(true);
}

void Ladder::setChain(const std::vector<RigNode>& chain, std::optional<std::size_t> lane)
{
    chain_ = chain;
    lane_ = lane;
    if (chosen_ >= int(chain_.size())) chosen_ = std::max(0, int(chain_.size()) - 1);
    update();
}

void Ladder::setRungs(std::vector<Rung> rungs, double outputDb)
{
    rungs_ = std::move(rungs);
    outputDb_ = outputDb;
    QStringList said;
    for (const Rung& r : rungs_)
        said << tr("%1 %2 dBu").arg(QString::fromStdString(r.name)).arg(r.playingDbu, 0, 'f', 1);
    setAccessibleDescription(said.join(", "));
    update();
}

void Ladder::setLimits(std::vector<StageLimit> limits, std::optional<double> outputCeilingDbu)
{
    limits_ = std::move(limits);
    outputCeilingDbu_ = outputCeilingDbu;
    update();
}

void Ladder::setChosen(int stage)
{
    chosen_ = stage;
    update();
}

QRectF Ladder::plot() const { return QRectF(44, 10, width() - 44 - 4, height() - 10 - 48); }
double Ladder::columnWidth() const { return plot().width() / double(chain_.size() + 2); }
int Ladder::stageAt(double x) const
{
    const int column = static_cast<int>(std::floor((x - plot().left()) / columnWidth()));
    return column >= 1 && column <= int(chain_.size()) ? column - 1 : -1;
}

/// Dashed; in the act colour where the peaks pass it.
void Ladder::drawCeilings(QPainter& p, const PlotArea& area, double outputPeakDbu) const
{
    const auto draw = [&](std::size_t column, double dbu, bool isPassed) {
        const double y = area.y.held(dbu);
        p.setPen(QPen(ink(isPassed ? Token::Act : Token::Ink), 1.4, Qt::DashLine));
        p.drawLine(QPointF(area.x.at(double(column)) + 2.0, y), QPointF(area.x.at(double(column + 1)) - 2.0, y));
    };
    for (std::size_t i = 0; i < limits_.size(); ++i)
        if (limits_[i].ceilingDbu) draw(i, *limits_[i].ceilingDbu, *limits_[i].roomDb < 0.0);
    constexpr double kSeenDb = 0.05;
    if (outputCeilingDbu_) draw(limits_.size(), *outputCeilingDbu_, outputPeakDbu > *outputCeilingDbu_ + kSeenDb);
    const auto first =
        std::ranges::find_if(limits_, [](const StageLimit& limit) { return limit.ceilingDbu.has_value(); });
    if (first != limits_.end())
        drawLabel(p, {area.x.at(double(first - limits_.begin())) + 4, area.y.held(*first->ceilingDbu) - 3},
                  tr("ceiling"), Qt::AlignLeft | Qt::AlignBottom, ink(Token::Ink), plot());
}

void Ladder::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    double low = -100.0, high = 20.0;
    const auto include = [&](double dbu) { high = std::max(high, std::ceil((dbu + 3.0) / 20.0) * 20.0); };
    for (const Rung& r : rungs_) include(r.peakDbu);
    for (const StageLimit& limit : limits_)
        if (limit.ceilingDbu) include(*limit.ceilingDbu);
    PlotArea area(plot(), Axis{0.0, double(chain_.size() + 2)}, Axis{low, high});
    const auto& t = Theme::instance();
    const double w = columnWidth();
    if (!chain_.empty())
        p.fillRect(QRectF(plot().left() + (chosen_ + 1) * w, plot().top(), w, height() - plot().top() - 2),
                   ink(Token::Band));
    std::vector<double> levels;
    for (double v = high; v >= low; v -= 20.0) levels.push_back(v);
    area.drawLevels(p, levels, [](double v) { return numberLabel(v); });
    if (dragged_ && dragTo_ != *dragged_) { // where it goes
        const double edge = plot().left() + (dragTo_ + (dragTo_ > *dragged_ ? 2 : 1)) * w;
        p.setPen(QPen(ink(Token::Act), 2.5));
        p.drawLine(QPointF(edge, plot().top()), QPointF(edge, height() - 2.0));
    }
    if (hasFocus()) {
        p.setPen(QPen(ink(Token::Act), 1.5));
        p.drawRect(QRectF(plot().left() + (chosen_ + 1) * w, plot().top(), w, height() - plot().top() - 3));
    }

    // Steps: column 0 is the input, then a column a stage, then the output after the rig's own level.
    if (rungs_.size() == chain_.size() + 1) {
        std::vector<Rung> steps = rungs_;
        Rung out = rungs_.back();
        out.playingDbu += outputDb_;
        out.peakDbu += outputDb_;
        if (out.restDbu) *out.restDbu += outputDb_;
        steps.push_back(out);
        const auto staircase = [&](auto level, const QPen& pen) {
            QPolygonF line;
            for (std::size_t i = 0; i < steps.size(); ++i) {
                const double y = area.y.held(level(steps[i]));
                line << QPointF(area.x.at(double(i)), y) << QPointF(area.x.at(double(i + 1)), y);
            }
            p.setPen(pen);
            p.setBrush(Qt::NoBrush);
            p.drawPolyline(line);
        };
        staircase([](const Rung& r) { return r.peakDbu; }, QPen(ink(Token::Ink2), 1.0));
        if (steps.front().restDbu)
            staircase([](const Rung& r) { return r.restDbu.value_or(-200.0); }, QPen(ink(Token::Ink2), 1.6));
        staircase([](const Rung& r) { return r.playingDbu; }, QPen(ink(Token::Ink), 2.4));
        p.setFont(t.text(TextSize::Small));
        if (limits_.size() == rungs_.size()) drawCeilings(p, area, steps.back().peakDbu);
        const auto inside = plot();
        for (std::size_t i = 1; i < steps.size(); ++i) // lanes side by side in time, above each other in level
            for (std::size_t lane = 0; lane < steps[i].lanesDbu.size(); ++lane) {
                const double y = area.y.held(steps[i].lanesDbu[lane]);
                p.setPen(QPen(ink(Token::Ink), 1.2));
                p.drawLine(QPointF(area.x.at(double(i)), y), QPointF(area.x.at(double(i + 1)), y));
                drawLabel(p, {area.x.at(double(i)) + 4 + 44.0 * double(lane), y - 2}, tr("lane %1").arg(lane + 1),
                          Qt::AlignLeft | Qt::AlignBottom, ink(Token::Ink2), inside);
            }
        const double peaksY = area.y.held(steps[0].peakDbu);
        const bool isUnderCeiling = !limits_.empty() && limits_[0].ceilingDbu &&
                                    std::abs(area.y.held(*limits_[0].ceilingDbu) - peaksY) < p.fontMetrics().height();
        drawLabel(p, {area.x.at(0.0) + 4, peaksY + (isUnderCeiling ? 3 : -3)}, tr("peaks"),
                  Qt::AlignLeft | (isUnderCeiling ? Qt::AlignTop : Qt::AlignBottom), ink(Token::Ink2), inside);
        drawLabel(p, {area.x.at(0.0) + 4, area.y.held(steps[0].playingDbu) + 4}, tr("playing"), Qt::AlignLeft,
                  ink(Token::Ink), inside);
        if (steps.front().restDbu)
            drawLabel(p, {area.x.at(0.0) + 4, area.y.held(*steps[0].restDbu) - 3}, tr("at rest"),
                      Qt::AlignLeft | Qt::AlignBottom, ink(Token::Ink2), inside);
        for (std::size_t i = 1; i < steps.size(); ++i) { // what each stage adds
            const double gain = steps[i].playingDbu - steps[i - 1].playingDbu;
            if (std::abs(gain) < 0.05 || (i + 1 == steps.size() && outputDb_ == 0.0)) continue;
            p.setFont(t.mono(TextSize::Small));
            drawLabel(p, {area.x.at(double(i) + 0.5), area.y.held(steps[i].playingDbu) + 5},
                      QString::fromStdString(signedText(gain)), Qt::AlignHCenter, ink(Token::Ink), inside);
            if (!steps[i].restDbu || !steps[i - 1].restDbu) continue;
            const double noise = *steps[i].restDbu - *steps[i - 1].restDbu;
            if (noise - gain > 6.0 && *steps[i].restDbu > low) {
                p.setFont(t.text(TextSize::Small));
                const QString by = QString::fromStdString(signedText(noise, 0)), words = tr("noise %1").arg(by);
                const double y = std::min(area.y.held(*steps[i].restDbu) + 4.0, inside.bottom() - 16.0);
                drawLabel(p, {area.x.at(double(i) + 0.5), y}, p.fontMetrics().horizontalAdvance(words) < w ? words : by,
                          Qt::AlignHCenter, ink(Token::Ink2), inside);
            }
        }
    } else if (!chain_.empty()) {
        drawEmpty(p, tr("Measuring the chain \u2026"));
    }

    const auto foot = [&](int column, const QString& name, const QString& setting, bool chosen, bool faint) {
        const QRectF cell(plot().left() + column * w + 5, plot().bottom() + 6, w - 8, 18);
        p.setFont(t.text(TextSize::Normal, true));
        p.setPen(faint ? ink(Token::Ink3) : chosen ? ink(Token::Act) : ink(Token::Ink));
        p.drawText(cell, Qt::AlignLeft | Qt::AlignVCenter,
                   p.fontMetrics().elidedText(name, Qt::ElideRight, int(cell.width())));
        p.setFont(t.text(TextSize::Small));
        p.setPen(ink(Token::Ink2));
        p.drawText(cell.translated(0, 18), Qt::AlignLeft | Qt::AlignVCenter,
                   p.fontMetrics().elidedText(setting, Qt::ElideRight, int(cell.width())));
    };
    foot(0, tr("input"), lane_ ? tr("of lane %1, dBu").arg(*lane_ + 1) : tr("DI, dBu"), false, false);
    for (std::size_t i = 0; i < chain_.size(); ++i)
        foot(int(i) + 1, QString::fromStdString(chain_[i].type), settingWords(chain_[i]), int(i) == chosen_,
             chain_[i].bypass);
    foot(int(chain_.size()) + 1, lane_ ? tr("lane ends") : tr("out"),
         outputDb_ == 0.0 ? tr("as it comes") : tr("%1 dB").arg(QString::fromStdString(signedText(outputDb_))), false,
         false);
}

void Ladder::mousePressEvent(QMouseEvent* event)
{
    const int stage = stageAt(event->position().x());
    if (stage < 0) return;
    if (event->button() == Qt::LeftButton) dragged_ = dragTo_ = stage;
    emit choose(stage);
}

void Ladder::mouseMoveEvent(QMouseEvent* event)
{
    if (!dragged_ || chain_.empty()) return;
    const double column = (event->position().x() - plot().left()) / columnWidth();
    dragTo_ = std::clamp(static_cast<int>(std::floor(column)) - 1, 0, int(chain_.size()) - 1);
    setCursor(dragTo_ == *dragged_ ? Qt::ArrowCursor : Qt::ClosedHandCursor);
    update();
}

void Ladder::mouseReleaseEvent(QMouseEvent*)
{
    const auto from = std::exchange(dragged_, std::nullopt);
    unsetCursor();
    if (from && dragTo_ != *from) emit move(*from, dragTo_);
    update();
}

void Ladder::mouseDoubleClickEvent(QMouseEvent* event)
{
    if (const int stage = stageAt(event->position().x()); stage >= 0) emit open(stage);
}

void Ladder::keyPressEvent(QKeyEvent* event)
{
    if ((event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) && chosen_ < int(chain_.size()))
        return void(emit open(chosen_));
    if (event->key() == Qt::Key_Insert) return void(emit insertWanted());
    if (event->key() == Qt::Key_Delete && chosen_ < int(chain_.size())) return void(emit remove(chosen_));
    const int by = event->key() == Qt::Key_Left ? -1 : event->key() == Qt::Key_Right ? 1 : 0;
    if (by != 0 && event->modifiers().testFlag(Qt::ControlModifier)) {
        if (chosen_ + by >= 0 && chosen_ + by < int(chain_.size())) emit move(chosen_, chosen_ + by);
        return;
    }
    if (event->key() == Qt::Key_Left && chosen_ > 0) return void(emit choose(chosen_ - 1));
    if (event->key() == Qt::Key_Right && chosen_ + 1 < int(chain_.size())) return void(emit choose(chosen_ + 1));
    QWidget::keyPressEvent(event);
}

bool Ladder::event(QEvent* event)
{
    if (event->type() == QEvent::ToolTip) {
        const auto* help = static_cast<QHelpEvent*>(event);
        const int stage = stageAt(help->pos().x());
        const NodeType* type = stage >= 0 ? findNodeType(chain_[std::size_t(stage)].type) : nullptr;
        if (type) QToolTip::showText(help->globalPos(), QString::fromStdString(type->about), this);
        return true;
    }
    return PlotWidget::event(event);
}

} // namespace gristle::app
