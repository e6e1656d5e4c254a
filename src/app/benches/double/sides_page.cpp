#include "app/benches/double/sides_page.h"

#include "app/widgets/column_share.h"
#include "app/widgets/figure_table.h"
#include "core/mix/dry_samples.h"
#include "core/mix/session_mix.h"
#include "core/units/json_text.h"

#include <QHeaderView>

namespace gristle::app {

using namespace core;

namespace {

constexpr int kRows = 4;
constexpr double kMostS = 20.0;                                  // of the loop that is rendered and looked at
constexpr double kAlikeDb = 2.0, kEdgeDb = 1.0, kBetterDb = 0.7; // heard

std::vector<double> onsetsOf(std::span<const float> x, double rateHz)
{
    std::vector<double> out;
    for (const Onset& o : findOnsets(x, rateHz)) out.push_back(o.timeS);
    return out;
}

} // namespace

ColourPlot::ColourPlot(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("colourPlot");
    setAccessibleName(tr("Colour of both sides, thirds of an octave"));
    setMinimumHeight(150);
}

void ColourPlot::clear()
{
    has_ = false;
    changeStill();
}

void ColourPlot::setSides(const SideSound& first, const SideSound& second, const QString& firstName,
                          const QString& secondName)
{
    has_ = true;
    first_ = first, second_ = second, firstName_ = firstName, secondName_ = secondName;
    changeStill();
}

void ColourPlot::drawStill(QPainter& p)
{
    if (!has_) return drawEmpty(p, tr("Two curves, when there are two sides."));
    double low = -20.0, high = 10.0;
    for (const auto* side : {&first_, &second_})
        for (const double v : side->thirdsDb)
            low = std::min(low, 10.0 * std::floor(v / 10.0)), high = std::max(high, 10.0 * std::ceil(v / 10.0));
    low = std::max(low, -60.0);
    const PlotArea a(QRectF(46, 24, width() - 46 - 20, height() - 24 - 26), Axis{80.0, 8000.0, 0, 1, true},
                     Axis{low, high});
    std::vector<double> levels;
    for (double v = low; v <= high; v += high - low > 40.0 ? 20.0 : 10.0) levels.push_back(v);
    a.drawLevels(p, levels, [](double v) { return numberLabel(v); });
    a.drawTicks(p, {100, 200, 500, 1000, 2000, 5000}, hzLabel);
    p.setFont(Theme::instance().text(TextSize::Small, true));
    double x = 46.0;
    const auto draw = [&](const SideSound& side, const QString& name, Token token) {
        QPolygonF line;
        for (std::size_t b = 0; b < side.thirdsDb.size(); ++b)
            line << a.point(80.0 * std::exp2(double(b) / 3.0), side.thirdsDb[b]);
        p.setPen(QPen(ink(token), 2.0));
        p.drawPolyline(line);
        p.drawText(QPointF(x, 15), name);
        x += p.fontMetrics().horizontalAdvance(name) + 18.0;
    };
    draw(first_, firstName_, Token::Left);
    draw(second_, secondName_, Token::Right);
    p.setFont(Theme::instance().text(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    p.drawText(QPointF(x, 15), tr("dB, thirds of an octave, both at one level"));
}

QString sidesWords(const Complement& sides, const QString& first, const QString& second)
{
    const auto carrier = [&](double apartDb) { return apartDb > 0.0 ? second : first; };
    const bool hasEdge = std::abs(sides.definitionApartDb) > kEdgeDb,
               hasWeight = std::abs(sides.weightApartDb) > kEdgeDb;
    const QString edge = carrier(sides.definitionApartDb), weight = carrier(sides.weightApartDb);
    if (hasEdge && hasWeight && edge != weight)
        return SidesPage::tr("%1 carries the edge, %2 the weight").arg(edge, weight);
    if (hasEdge && hasWeight)
        return SidesPage::tr(
                   "%1 carries both, edge and weight: give %2 one of them, with less dirt or with more low end")
            .arg(edge, edge == first ? second : first);
    if (hasEdge) return SidesPage::tr("%1 carries the edge; the weight is even").arg(edge);
    if (hasWeight) return SidesPage::tr("%1 carries the weight; the edge is even").arg(weight);
    return sides.spectrumApartDb < kAlikeDb ? SidesPage::tr("The sides sound alike")
                                            : SidesPage::tr("The sides differ in colour, not in edge or weight");
}

SidesPage::SidesPage(const BenchContext& context, DoubleBook& book, QWidget* parent)
    : BenchPage(context, tr("Sides"), tr("Which side carries the edge, which the weight?"), parent), book_(book)
{
    auto* column = layOut("sidesSentence", sentence_);
    about_ = new QLabel(this);
    about_->setObjectName("sidesAbout");
    about_->setWordWrap(true);
    about_->setProperty("tone", "2");
    column->addWidget(about_);
    table_ = named(new QTableWidget(this), "sidesTable", tr("How each side sounds, and their sum"));
    layOutTable(*table_, {tr("what"), tr("first"), tr("second"), tr("sum to mono"), tr("sum, rigs exchanged")},
                {1, 2, 3, 4});
    shareByContent(table_);
    table_->setFixedHeight(kRows * 30 + 40);
    plot_ = new ColourPlot(this);
    column->addWidget(plot_, 1);
    column->addWidget(table_);
    auto* row = addRow(column, 6);
    exchange_ = addButton(row, tr("Exchange the rigs"), "exchangeRigs",
                          tr("The first side through the second's rig, and the other way"), [this] { exchangeRigs(); });
    row->addStretch(1);
    connect(&book_, &DoubleBook::changed, this, &SidesPage::look);
    for (auto signal : {&SessionModel::rigChanged, &SessionModel::loopChanged, &SessionModel::documentChanged})
        connect(&session(), signal, this, &SidesPage::look);
}

void SidesPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    look();
}

void SidesPage::look()
{
    if (!isVisible() || !session().isOpen()) return;
    if (!book_.first() || !book_.second()) {
        task_.cancel();
        now_.reset(), exchanged_.reset(), key_.clear();
        return fill();
    }
    const Layer& a = session().part()->layers[*book_.first()];
    const Layer& b = session().part()->layers[*book_.second()];
    Song about = *session().song();
    about.parts = {{"", {a, b}}};
    const double from = session().loopFromS(), to = std::min(session().loopToS(), from + kMostS);
    const std::string key = jsonText(songToJson(about)) + std::to_string(from) + " " + std::to_string(to);
    if (key == key_) return;
    key_ = key;
    std::vector<std::string> warnings;
    const auto first = layerRecipe(session().folder(), a, true, warnings),
               second = layerRecipe(session().folder(), b, true, warnings);
    if (!first || !second) return tellFailure(first ? second.error() : first.error());
    struct Answer {
        std::optional<Complement> now, exchanged;
        QString trouble;
    };
    task_.run<std::shared_ptr<Answer>>(
        tr("Listening to both sides"),
        [a = *first, b = *second, from, to](const Progress& p) {
            auto out = std::make_shared<Answer>();
            const auto rendered = [&](LayerRecipe recipe, const RigDocument& rig) -> Result<std::vector<float>> {
                recipe.rig = rig;
                recipe.startS = from, recipe.endS = to;
                recipe.effort = Effort::Playing;
                RenderReport ignored;
                auto made = renderToMemory(recipe, ignored, {p.stop, nullptr});
                if (!made) return made.error();
                std::vector<float> mono(made->audio.frames(), 0.0f);
                for (std::size_t c = 0; c < made->audio.channels(); ++c) {
                    const auto x = std::as_const(made->audio).channel(c);
                    for (std::size_t i = 0; i < x.size(); ++i) mono[i] += x[i] / float(made->audio.channels());
                }
                return mono;
            };
            const double rate = a.rateHz;
            const auto dryA = rendered(a, {}), dryB = rendered(b, {});
            if (!dryA || !dryB) {
                out->trouble = QString::fromStdString((dryA ? dryB.error() : dryA.error()).line());
                return out;
            }
            const auto strokesA = onsetsOf(*dryA, rate), strokesB = onsetsOf(*dryB, rate);
            if (strokesA.empty() || strokesB.empty()) {
                out->trouble = QObject::tr("Nobody plays within the loop: loop other bars.");
                return out;
            }
            const auto both = [&](const RigDocument& rigA, const RigDocument& rigB) -> std::optional<Complement> {
                auto x = rendered(a, rigA), y = rendered(b, rigB);
                if (!x || !y) {
                    out->trouble = QString::fromStdString((x ? y.error() : x.error()).line());
                    return std::nullopt;
                }
                // At one level, so that the louder one is not all of the sum.
                double px = 1e-12, py = 1e-12;
                for (const float v : *x) px += double(v) * double(v);
                for (const float v : *y) py += double(v) * double(v);
                const auto gain = float(std::sqrt(px / py));
                for (float& v : *y) v *= gain;
                return complementOf(*x, *y, strokesA, strokesB, rate);
            };
            out->now = both(a.rig, b.rig);
            p.at(0.5);
            if (!(a.rig == b.rig) && !p.stopped()) out->exchanged = both(b.rig, a.rig);
            return out;
        },
        [this](std::shared_ptr<Answer> answer) {
            now_ = answer->now, exchanged_ = answer->exchanged, trouble_ = answer->trouble;
            fill();
        });
    fill();
}

void SidesPage::fill()
{
    table_->setRowCount(0);
    exchange_->setEnabled(now_ && exchanged_);
    if (!now_) {
        sentence_->setText(!book_.second()  ? tr("It takes two layers with a take each.")
                           : task_.isBusy() ? tr("Listening \u2026")
                                            : trouble_);
        about_->clear();
        plot_->clear();
        return void(emit stateChanged());
    }
    const Complement& c = *now_;
    const QString first = book_.name(book_.first()), second = book_.name(book_.second());
    QString text = sidesWords(c, first, second);
    if (exchanged_ && exchanged_->attackKeptDb > c.attackKeptDb + kBetterDb)
        text += tr("; with the rigs exchanged the sum keeps %1 dB more of the attack")
                    .arg(shownFigure(exchanged_->attackKeptDb - c.attackKeptDb, 1));
    sentence_->setText(text + '.');
    const double kept = c.attackKeptDb;
    const QString attack = kept < 0.0 ? tr("the attack is %1 dB weaker in their sum than in each alone")
                                      : tr("the attack is %1 dB stronger in their sum than in each alone");
    about_->setText(tr("Their colours are %1 dB apart; %2. Measured on the loop, through the rigs, both at one level.")
                        .arg(shownFigure(c.spectrumApartDb, 1), attack.arg(shownFigure(std::abs(kept), 1))));
    plot_->setSides(c.first, c.second, first, second);
    table_->setHorizontalHeaderLabels({tr("what, dB"), first, second, tr("sum to mono"), tr("sum, rigs exchanged")});
    const auto row = [&](const QString& what, double SideSound::*figure, const QString& about) {
        const int r = table_->rowCount();
        table_->setRowCount(r + 1);
        auto* name = wordCell(what);
        name->setToolTip(about);
        table_->setItem(r, 0, name);
        table_->setItem(r, 1, figureCell(shownFigure(c.first.*figure, 1)));
        table_->setItem(r, 2, figureCell(shownFigure(c.second.*figure, 1)));
        table_->setItem(r, 3, figureCell(shownFigure(c.sum.*figure, 1)));
        table_->setItem(r, 4,
                        figureCell(exchanged_ ? shownFigure(exchanged_->sum.*figure, 1) : QString(QChar(0x2013))));
    };
    row(tr("edge: attack over sustain, 1 to 5 kHz"), &SideSound::definitionDb,
        tr("The first 30 ms against 60 to 160 ms: how the pick speaks"));
    row(tr("weight: 80 to 300 Hz against all"), &SideSound::weightDb, tr("How much of it is low"));
    row(tr("low end that rings on, 80 to 250 Hz"), &SideSound::looseLowDb,
        tr("110 to 160 ms against the first 60: lower is tighter"));
    row(tr("crest of what sustains"), &SideSound::crestDb, tr("Peak over mean: lower is dirtier"));
    emit stateChanged();
}

void SidesPage::exchangeRigs()
{
    if (!book_.first() || !book_.second()) return;
    const LayerPath a = book_.path(*book_.first()), b = book_.path(*book_.second());
    session().edit(tr("Rigs of %1 and %2 exchanged").arg(book_.name(book_.first()), book_.name(book_.second())), "rig",
                   [&](SessionDocument& d) {
                       Layer *first = findLayer(d, a), *second = findLayer(d, b);
                       if (first && second) std::swap(first->rig, second->rig);
                   });
}

BenchFindings SidesPage::findings() const
{
    return {{},
            tr("Sides of unlike brightness are told apart by their sound; two alike need more difference in the "
               "playing.")};
}

} // namespace gristle::app
