#include "app/benches/double/sides_page.h"

#include "app/widgets/column_share.h"
#include "app/widgets/figure_table.h"
#include "core/advice/sides_words.h"
#include "core/mix/render/session_mix.h"
#include "core/mix/render/sound_key.h"

#include <QHeaderView>

namespace gristle::app {

using namespace core;

namespace {

constexpr int kRows = 4;
constexpr double kMostS = 20.0; // of the loop that is rendered and looked at

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

SidesPage::SidesPage(const BenchContext& context, DoubleBook& book, QWidget* parent)
    : BenchPage(context, tr("Sides"), tr("Which side has the attack, which the low end?"), parent), book_(book)
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
    connect(&session(), &SessionModel::closing, this, [this] { of_.clear(); });
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
        sides_ = {}, of_.clear();
        return fill();
    }
    const Layer& a = session().part()->layers[*book_.first()];
    const Layer& b = session().part()->layers[*book_.second()];
    const double from = session().loop().fromS(), to = std::min(session().loop().toS(), from + kMostS);
    std::vector<std::string> warnings;
    auto first = layerRecipe(session().folder(), a, true, warnings),
         second = layerRecipe(session().folder(), b, true, warnings);
    if (!first || !second) return tellFailure(first ? second.error() : first.error());
    for (auto* recipe : {&*first, &*second}) {
        recipe->startS = from, recipe->endS = to;
        recipe->effort = Effort::Playing;
    }
    if (const std::string key = soundKey(*first) + soundKey(*second); std::exchange(of_, key) == key) return;
    using Answer = std::shared_ptr<ComparedSides>;
    task_.run<Answer>(
        tr("Listening to both sides"),
        [a = *first, b = *second, cache = session().renders()](const Progress& p) {
            return std::make_shared<ComparedSides>(compareSides(a, b, *cache, p));
        },
        [this](Answer answer) {
            sides_ = std::move(*answer);
            fill();
        });
    fill();
}

void SidesPage::fill()
{
    table_->setRowCount(0);
    exchange_->setEnabled(sides_.now && sides_.exchanged);
    if (!sides_.now) {
        sentence_->setText(!book_.second()  ? tr("It takes two layers with a take each.")
                           : task_.isBusy() ? tr("Listening \u2026")
                                            : QString::fromStdString(sides_.trouble));
        about_->clear();
        plot_->clear();
        return void(emit stateChanged());
    }
    const Complement& c = *sides_.now;
    const auto& exchanged = sides_.exchanged;
    const QString first = book_.name(book_.first()), second = book_.name(book_.second());
    QString text = QString::fromStdString(sidesWords(c, first.toStdString(), second.toStdString()));
    if (exchanged && isBetterExchanged(c, *exchanged))
        text += tr("; with the rigs exchanged the sum keeps %1 dB more of the attack")
                    .arg(shownFigure(exchanged->attackKeptDb - c.attackKeptDb, 1));
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
        table_->setItem(r, 4, figureCell(exchanged ? shownFigure(exchanged->sum.*figure, 1) : QString(QChar(0x2013))));
    };
    row(tr("attack over sustain, 1 to 5 kHz"), &SideSound::definitionDb,
        tr("The first 30 ms against 60 to 160 ms: how the pick speaks"));
    row(tr("low end: 80 to 300 Hz against all"), &SideSound::weightDb, tr("How much of it is low"));
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
