#include "app/benches/double/copies_page.h"

#include "app/models/slots.h"
#include "app/widgets/figure_table.h"
#include "core/measure/stereo_measure.h"
#include "core/mix/render/session_mix.h"
#include "core/mix/render/sound_key.h"
#include "core/stereo/comb.h"

#include <QKeyEvent>
#include <QMouseEvent>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kFromMs = 5.0, kToMs = 30.0, kMostS = 20.0;
constexpr double kMostNotchHz = 3000.0;

/// The same performance on both sides, the second later.
std::vector<MixLayer> bothSides(const LayerRecipe& recipe, double ms)
{
    std::vector<MixLayer> out{{recipe, -100.0, 0.0}, {recipe, 100.0, 0.0}};
    out[1].recipe.earlierS -= 0.001 * ms;
    return out;
}

} // namespace

DelayPlot::DelayPlot(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("delayPlot");
    setAccessibleName(tr("What mono loses over the delay; arrows move the delay"));
    setFocusPolicy(Qt::StrongFocus);
    setMinimumHeight(200);
}

void DelayPlot::setCurve(std::vector<CopyDelay> curve, double chosenMs, std::optional<double> measuredDb)
{
    curve_ = std::move(curve);
    chosen_ = chosenMs, measured_ = measuredDb;
    changeStill();
}

PlotArea DelayPlot::area() const
{
    double low = -1.0, high = 1.0;
    for (const CopyDelay& c : curve_)
        low = std::min(low, std::floor(c.lossDb)), high = std::max(high, std::ceil(c.lossDb));
    return {QRectF(46, 22, width() - 46 - 26, height() - 22 - 26), Axis{kFromMs, kToMs}, Axis{low, high}};
}

void DelayPlot::drawStill(QPainter& p)
{
    if (curve_.empty()) return drawEmpty(p, tr("Nothing to compute."));
    const PlotArea a = area();
    std::vector<double> levels;
    const double step = a.y.high - a.y.low > 6.0 ? 2.0 : 1.0;
    for (double v = a.y.low; v <= a.y.high; v += step) levels.push_back(v);
    a.drawLevels(p, levels, [](double v) { return numberLabel(v); });
    a.drawTicks(p, {5, 10, 15, 20, 25, 30}, [this](double v) { return v == 30.0 ? tr("30 ms") : numberLabel(v); });
    p.setFont(Theme::instance().text(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    p.drawText(QRectF(0, 2, 400, 16), Qt::AlignLeft | Qt::AlignVCenter,
               tr("dB that mono loses (two strangers 0, alike \u22123), predicted"));
    QPolygonF line;
    const CopyDelay* now = &curve_.front();
    for (const CopyDelay& c : curve_) {
        line << a.point(c.ms, c.lossDb);
        if (std::abs(c.ms - chosen_) < std::abs(now->ms - chosen_)) now = &c;
    }
    p.setPen(QPen(ink(Token::Ink), 1.6));
    p.drawPolyline(line);
    const QPointF at = a.point(now->ms, now->lossDb);
    p.setPen(QPen(ink(Token::Act), hasFocus() ? 2.4 : 1.6));
    p.drawLine(QPointF(at.x(), a.rect.top()), QPointF(at.x(), a.rect.bottom()));
    drawLabel(p, {at.x() + 6, a.rect.top() + 4},
              tr("%1 ms: %2 dB").arg(now->ms, 0, 'f', 1).arg(numberLabel(now->lossDb, 1)), Qt::AlignLeft | Qt::AlignTop,
              ink(Token::Act), a.rect);
    if (!measured_) return;
    p.setBrush(ink(Token::Ink));
    p.setPen(Qt::NoPen);
    const QPointF m = a.point(chosen_, *measured_);
    p.drawPolygon(QPolygonF{m + QPointF(0, -6), m + QPointF(6, 0), m + QPointF(0, 6), m + QPointF(-6, 0)});
    p.setBrush(Qt::NoBrush);
    drawLabel(p, m + QPointF(10, 2), tr("measured %1").arg(numberLabel(*measured_, 1)), Qt::AlignLeft | Qt::AlignTop,
              ink(Token::Ink), a.rect);
}

void DelayPlot::mousePressEvent(QMouseEvent* event)
{
    if (!curve_.empty())
        emit choose(std::clamp(std::round(10.0 * area().x.valueAt(event->position().x())) / 10.0, kFromMs, kToMs));
}

void DelayPlot::keyPressEvent(QKeyEvent* event)
{
    const double by = event->key() == Qt::Key_Left ? -0.1 : event->key() == Qt::Key_Right ? 0.1 : 0.0;
    if (by == 0.0) return QWidget::keyPressEvent(event);
    emit choose(std::clamp(std::round(10.0 * (chosen_ + by)) / 10.0, kFromMs, kToMs));
}

CopiesPage::CopiesPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Copies"), tr("One performance on both sides: what does it cost?"), parent)
{
    auto* column = layOut("copiesSentence", sentence_);
    about_ = new QLabel(this);
    about_->setObjectName("copiesAbout");
    about_->setWordWrap(true);
    about_->setProperty("tone", "2");
    column->addWidget(about_);
    plot_ = new DelayPlot(this);
    column->addWidget(plot_, 1);
    auto* row = addRow(column, 6);
    make_ = addButton(row, tr("Make the second side"), "makeCopy",
                      tr("A layer of the same take on the other side, later by so much"), [this] { make(); });
    make_->setProperty("act", true);
    useBest_ = addButton(row, tr("Least loss"), "leastLoss",
                         tr("The delay that mono loses least by, for what is played in the loop"), [this] {
                             if (best_) ms_ = *best_, measure();
                         });
    delay_ = new FigureBox(tr("later by"), tr("ms"), "copyDelay", kFromMs, kToMs, 1, this);
    row->addWidget(delay_);
    row->addStretch(1);
    const auto move = [this](double ms) {
        ms_ = ms;
        measure();
    };
    connect(delay_, &FigureBox::changed, this, move);
    connect(plot_, &DelayPlot::choose, this, move);
    connect(&session(), &SessionModel::closing, this, [this] { of_.clear(); });
    for (auto signal : {&SessionModel::documentChanged, &SessionModel::pathChanged, &SessionModel::rigChanged,
                        &SessionModel::loopChanged, &SessionModel::opened})
        connect(&session(), signal, this, &CopiesPage::look);
    connect(&Theme::instance(), &Theme::changed, this, &CopiesPage::fill);
}

void CopiesPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    look();
}

std::optional<double> CopiesPage::predictedDb() const
{
    const auto near = std::ranges::min_element(curve_, {}, [&](const CopyDelay& c) { return std::abs(c.ms - ms_); });
    return near == curve_.end() ? std::nullopt : std::optional(near->lossDb);
}

/// Predicts for the layer in hand, on the loop.
void CopiesPage::look()
{
    if (!isVisible() || !session().isOpen()) return;
    const Layer* layer = session().layer();
    if (!layer || !layer->chosenTake()) {
        of_.clear(), curve_.clear(), best_.reset(), measured_.reset(), trouble_.clear();
        return fill();
    }
    const double from = session().loop().fromS(), to = std::min(session().loop().toS(), from + kMostS);
    std::vector<std::string> warnings;
    auto recipe = layerRecipe(session().folder(), *layer, true, warnings);
    if (!recipe) return tellFailure(recipe.error());
    recipe->startS = from, recipe->endS = to;
    recipe->effort = Effort::Playing;
    if (const std::string key = soundKey(*recipe); std::exchange(of_, key) == key) return;
    measured_.reset();
    using Answer = std::shared_ptr<Result<std::vector<CopyDelay>>>;
    task_.run<Answer>(
        tr("Predicting what mono loses"),
        [recipe = *recipe, cache = session().renders()](const Progress& p) {
            const auto rendered = cache->layer(recipe, {p.stop, nullptr});
            if (!rendered) return std::make_shared<Result<std::vector<CopyDelay>>>(rendered.error());
            const Recording& made = (*rendered)->sound;
            if (made.audio.channels() > 1)
                return std::make_shared<Result<std::vector<CopyDelay>>>(
                    Error{ErrorCode::Unsupported, "copy: its rig gives two sides already", "take a rig with one"});
            return std::make_shared<Result<std::vector<CopyDelay>>>(
                copyDelays(made.audio.channel(0), made.sampleRateHz, 1.0, kFromMs, kToMs));
        },
        [this](Answer answer) {
            trouble_ = *answer ? QString() : QString::fromStdString(answer->error().line());
            curve_ = *answer ? std::move(**answer) : std::vector<CopyDelay>{};
            best_.reset();
            if (const auto least = std::ranges::min_element(curve_, {}, &CopyDelay::lossDb); least != curve_.end())
                best_ = std::round(10.0 * least->ms) / 10.0;
            if (best_ && (ms_ < kFromMs || ms_ > kToMs)) ms_ = *best_;
            curve_.empty() ? fill() : measure();
        });
    fill();
}

/// Renders both sides with the delay, sums them, and measures what is lost.
void CopiesPage::measure()
{
    measured_.reset();
    fill();
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    if (!layer || curve_.empty()) return;
    std::vector<std::string> warnings;
    auto recipe = layerRecipe(session().folder(), *layer, true, warnings);
    if (!recipe) return;
    recipe->effort = Effort::Playing;
    const MixOptions options = mixOptions(session().document());
    const double from = session().loop().fromS(), to = std::min(session().loop().toS(), from + kMostS);
    using Answer = std::shared_ptr<std::optional<double>>;
    measure_.run<Answer>(
        tr("Measuring the sum"),
        [layers = bothSides(*recipe, ms_), options, from, to, cache = session().renders()](const Progress& p) {
            const auto sum = mixToMemory(layers, options, from, to, {p.stop, nullptr}, cache.get());
            if (!sum) return std::make_shared<std::optional<double>>();
            StereoMeter meter(sum->sampleRateHz);
            meter.push(std::as_const(sum->audio).channel(0), std::as_const(sum->audio).channel(1));
            return std::make_shared<std::optional<double>>(meter.result().monoLossDb);
        },
        [this](Answer answer) {
            measured_ = *answer;
            fill();
        });
    emit auditionChanged();
}

void CopiesPage::fill()
{
    plot_->setEmptyText(trouble_);
    plot_->setCurve(curve_, ms_, measured_);
    delay_->setValue(ms_ >= kFromMs ? ms_ : kFromMs);
    const bool has = !curve_.empty();
    make_->setEnabled(has);
    useBest_->setEnabled(has && best_ && *best_ != ms_);
    if (!has) {
        sentence_->setText(task_.isBusy()       ? tr("Computing \u2026")
                           : trouble_.isEmpty() ? tr("The layer in hand has no take.")
                                                : tr("It cannot be told here."));
        about_->setText(trouble_);
        return void(emit stateChanged());
    }
    const QString name = QString::fromStdString(session().layer()->name);
    const double loss = *predictedDb();
    sentence_->setText((loss < 0.0 ? tr("%1 on both sides, %2 ms apart: mono gains %3 dB.")
                                   : tr("%1 on both sides, %2 ms apart: mono loses %3 dB."))
                           .arg(name, shownFigure(ms_, 1), shownFigure(std::abs(loss), 1)));
    const std::vector<HeardCopy> copies{{1.0, 0.0, 0.0, false}, {0.0, 1.0, 0.001 * ms_, false}};
    QStringList notches;
    for (const CombNotch& n : predictedNotches(copies, kMostNotchHz)) {
        if (notches.size() == 5) {
            notches << QStringLiteral("\u2026");
            break;
        }
        notches << hzLabel(std::round(n.hz));
    }
    const QString best =
        best_ && *best_ != ms_ ? tr(" Least is lost at %1 ms.").arg(shownFigure(*best_, 1)) : QString();
    about_->setText(tr("Predicted from what is played in the loop%1.%2 Mono has holes at %3 Hz. Two performances have "
                       "none of this.")
                        .arg(measured_ ? tr(", measured %1 dB").arg(shownFigure(*measured_, 1)) : QString(), best,
                             notches.join(", ")));
    emit stateChanged();
}

void CopiesPage::make()
{
    if (!session().layer() || curve_.empty()) return;
    const std::size_t at = session().path().layer;
    session().editPart(tr("%1 on the other side, %2 ms later")
                           .arg(QString::fromStdString(session().layer()->name), shownFigure(ms_, 1)),
                       "double", [&](Part& part) {
                           Layer copy = part.layers[at];
                           copy.name += tr(", later").toStdString();
                           if (part.layers[at].place == 0.0) part.layers[at].place = -100.0;
                           copy.place = -part.layers[at].place;
                           copy.earlierMs -= ms_;
                           part.layers.push_back(std::move(copy));
                       });
}

BenchFindings CopiesPage::findings() const
{
    return {{},
            tr("A second performance is wide without this price. The Blend bench shows what mono loses of all layers "
               "together.")};
}

AuditionRequest CopiesPage::audition() const
{
    AuditionRequest out;
    out.kind = "copies";
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    if (!layer || !layer->chosenTake()) return out;
    std::vector<std::string> warnings;
    auto recipe = layerRecipe(session().folder(), *layer, true, warnings);
    if (!recipe) return out;
    recipe->effort = Effort::Playing;
    out.subject = QString::fromStdString(layer->name);
    const MixOptions options = mixOptions(session().document());
    const auto slot = [&](const QString& title, const std::vector<MixLayer>& layers) {
        out.slots_.push_back(mixSlot(title, layers, options));
    };
    slot(tr("Once"), {{*recipe, layer->place, 0.0}});
    slot(tr("Both sides"), bothSides(*recipe, ms_));
    return out;
}

} // namespace gristle::app
