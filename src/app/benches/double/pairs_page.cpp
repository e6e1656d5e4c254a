#include "app/benches/double/pairs_page.h"

#include "app/widgets/column_share.h"
#include "app/widgets/figure_table.h"
#include "core/advice/take_judgement.h"
#include "core/mix/dry_samples.h"
#include "core/mix/session_mix.h"
#include "core/units/json_text.h"

#include <QHeaderView>

namespace gristle::app {

using namespace core;

namespace {

constexpr std::size_t kMost = 8; // takes that are compared, the last ones: 28 pairs

QString heardText(const DoubleTake& t, const DoubleLimits& limits)
{
    if (t.semitonesHigher != 0) return QObject::tr("another pitch");
    if (t.isUnrelated) return QObject::tr("two parts");
    if (t.isCopy) return QObject::tr("a copy");
    switch (heardAs(t, limits)) {
    case DoubleHeard::One: return QObject::tr("one");
    case DoubleHeard::Width: return QObject::tr("width");
    case DoubleHeard::Loose: return QObject::tr("loose");
    case DoubleHeard::Flam: return QObject::tr("flam");
    }
    return {};
}

} // namespace

PairsPage::PairsPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Pairs"), tr("Which two takes belong together?"), parent)
{
    auto* column = layOut("pairsSentence", sentence_);
    about_ = new QLabel(this);
    about_->setObjectName("pairsAbout");
    about_->setWordWrap(true);
    about_->setProperty("tone", "2");
    column->addWidget(about_);
    table_ = named(new QTableWidget(this), "pairTable", tr("All pairs, the best first"));
    layOutTable(*table_,
                {tr("one side"), tr("other side"), tr("spread, ms"), tr("median, ms"), tr("tuning, cents"),
                 tr("unpaired"), tr("heard as"), tr("cost")},
                {2, 3, 4, 5, 7});
    shareByContent(table_);
    column->addWidget(table_, 1);
    auto* row = addRow(column, 6);
    useTwo_ =
        addButton(row, tr("Place these two"), "usePair",
                  tr("One on each side, at the places of the part's layers; the others stay where they are"), [this] {
                      if (two_) use(*two_);
                  });
    useTwo_->setProperty("act", true);
    useFour_ = addButton(row, tr("Place these four"), "useFour",
                         tr("Two on each side; layers are made where the part has too few"), [this] {
                             if (four_) use(*four_);
                         });
    row->addStretch(1);
    for (auto signal : {&SessionModel::documentChanged, &SessionModel::pathChanged, &SessionModel::opened})
        connect(&session(), signal, this, &PairsPage::look);
}

void PairsPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    look();
}

QString PairsPage::names(const std::vector<std::size_t>& takes) const
{
    QStringList out;
    for (const std::size_t t : takes) out << candidates_[t].name;
    return out.join(tr(" and "));
}

/// Compares what is not known yet, once somebody looks.
void PairsPage::look()
{
    if (!isVisible() || !session().isOpen() || !session().part()) return;
    const Part& part = *session().part();
    candidates_.clear(), keys_.clear();
    Song about = *session().song();
    about.parts.clear();
    struct Wanted {
        Take take;
        LayerRecipe dry;
        std::string key;
    };
    std::vector<Wanted> wanted;
    for (std::size_t l = 0; l < part.layers.size(); ++l)
        for (std::size_t t = 0; t < part.layers[l].takes.size(); ++t) {
            const Take& take = part.layers[l].takes[t];
            const bool isKnown = std::ranges::any_of(
                wanted, [&](const Wanted& w) { return w.take.file == take.file && w.take.channel == take.channel; });
            if (take.isPunch() || isKnown) continue;
            Song one = about;
            one.parts = {{"", {Layer{}}}};
            one.parts[0].layers[0].takes = {take};
            wanted.push_back({take, layerRecipe(session().folder(), take, RigDocument{}), jsonText(songToJson(one))});
            wanted.back().dry.tailS = 0.0;
            candidates_.push_back(
                {l, t, tr("%1, take %2").arg(QString::fromStdString(part.layers[l].name)).arg(t + 1)});
        }
    const bool isCut = wanted.size() > kMost;
    if (isCut) {
        wanted.erase(wanted.begin(), wanted.end() - long(kMost));
        candidates_.erase(candidates_.begin(), candidates_.end() - long(kMost));
    }
    std::string key;
    for (const Wanted& w : wanted) keys_.push_back(w.key), key += w.key;
    about_->setText(
        tr("Cost: how loosely the two are played, how they are tuned, notes that only one has, and what each "
           "take has amiss by itself. Less is better.") +
        (isCut ? tr(" The last %1 takes of the part are compared.").arg(kMost) : QString()));
    if (key == key_) return fill();
    key_ = key;
    struct Answer {
        std::map<std::string, std::shared_ptr<const Compared>> known;
        std::map<std::string, double> own;
    };
    task_.run<std::shared_ptr<Answer>>(
        tr("Comparing the takes"),
        [wanted, grid = about.grid(), known = known_, own = own_](const Progress& p) {
            auto out = std::make_shared<Answer>(Answer{known, own});
            std::vector<std::vector<float>> samples(wanted.size());
            const auto load = [&](std::size_t i) {
                if (!samples[i].empty()) return;
                if (auto dry = drySamples(wanted[i].dry, p)) samples[i] = std::move(*dry);
            };
            const std::size_t all = wanted.size() * (wanted.size() - 1) / 2;
            std::size_t done = 0;
            for (std::size_t i = 0; i < wanted.size(); ++i) {
                if (!out->own.contains(wanted[i].key)) {
                    load(i);
                    const auto measure = measureTake(samples[i], wanted[i].dry.rateHz, grid, {}, {p.stop, nullptr});
                    out->own[wanted[i].key] = measure ? judgeTake(*measure, grid, {}).cost : 100.0;
                }
                for (std::size_t j = i + 1; j < wanted.size() && !p.stopped(); ++j) {
                    p.at(double(done++) / double(std::max<std::size_t>(1, all)));
                    const std::string pair = wanted[i].key + wanted[j].key;
                    if (out->known.contains(pair)) continue;
                    load(i), load(j);
                    auto take = comparePerformances(samples[i], samples[j], wanted[i].dry.rateHz, {p.stop, nullptr});
                    if (p.stopped()) break;
                    out->known[pair] = std::make_shared<const Compared>(
                        take ? Compared{std::move(*take), {}}
                             : Compared{std::nullopt, QString::fromStdString(take.error().line())});
                }
            }
            return out;
        },
        [this](std::shared_ptr<Answer> answer) {
            known_ = std::move(answer->known), own_ = std::move(answer->own);
            fill();
        });
    fill();
}

void PairsPage::fill()
{
    const DoubleLimits limits = session().doubleStyle().limits;
    const std::size_t n = keys_.size();
    PairCosts costs(n, std::vector<double>(n, 0.0));
    std::vector<double> own;
    struct Row {
        std::size_t a, b;
        const DoubleTake* take;
        double cost;
    };
    std::vector<Row> rows;
    bool isWhole = true;
    for (std::size_t i = 0; i < n; ++i) {
        const auto cost = own_.find(keys_[i]);
        isWhole &= cost != own_.end();
        own.push_back(cost != own_.end() ? cost->second : 0.0);
        for (std::size_t j = i + 1; j < n; ++j) {
            const auto at = known_.find(keys_[i] + keys_[j]);
            isWhole &= at != known_.end();
            const bool isTold = at != known_.end() && at->second->take;
            costs[i][j] = costs[j][i] = isTold ? pairCost(*at->second->take, limits) : 200.0;
            if (isTold) rows.push_back({i, j, &*at->second->take, costs[i][j]});
        }
    }
    for (Row& row : rows) row.cost += own[row.a] + own[row.b]; // as the choice of two reckons
    std::ranges::sort(rows, {}, &Row::cost);
    table_->setRowCount(int(rows.size()));
    for (std::size_t r = 0; r < rows.size(); ++r) {
        const DoubleTake& t = *rows[r].take;
        const bool isTold = !t.isUnrelated;
        const auto figure = [&](int column, const std::optional<double>& v, int digits) {
            table_->setItem(int(r), column, figureCell(isTold && v ? shownFigure(*v, digits) : QString(QChar(0x2013))));
        };
        table_->setItem(int(r), 0, wordCell(candidates_[rows[r].a].name));
        table_->setItem(int(r), 1, wordCell(candidates_[rows[r].b].name));
        figure(2, t.offsetSdMs, 1);
        figure(3, t.offsetMedianMs, 1);
        figure(4, t.tuningMeanCents, 1);
        figure(5, double(t.unmatchedFirst + t.unmatchedSecond), 0);
        table_->setItem(int(r), 6, wordCell(heardText(t, limits)));
        table_->setItem(int(r), 7, figureCell(shownFigure(rows[r].cost, 2)));
    }
    two_ = isWhole ? bestSides(costs, own, 2) : std::nullopt;
    four_ = isWhole ? bestSides(costs, own, 4) : std::nullopt;
    if (n < 2)
        sentence_->setText(tr("It takes two takes of one part. Record another on the Take bench."));
    else if (!isWhole)
        sentence_->setText(tr("Comparing \u2026"));
    else if (two_->cost >= 100.0)
        sentence_->setText(tr("No two of them make width: copies, or different parts."));
    else {
        QString text = tr("%1 with %2.").arg(names(two_->left), names(two_->right));
        if (two_->nextCost) {
            const double ahead = *two_->nextCost - two_->cost;
            text += ahead < 0.15 ? tr(" The next pair is as good: listen.")
                                 : tr(" The next pair costs %1 more.").arg(shownFigure(ahead, 2));
        }
        sentence_->setText(text);
    }
    useTwo_->setEnabled(two_ && two_->cost < 100.0);
    useFour_->setEnabled(four_ && four_->cost < 100.0);
    if (four_ && four_->cost < 100.0)
        useFour_->setToolTip(tr("%1 on one side, %2 on the other").arg(names(four_->left), names(four_->right)));
    emit stateChanged();
}

/// Gives the takes to layers: those of one side to layers that are placed there. A layer without a place of its own is
/// made opposite.
void PairsPage::use(const SideChoice& choice)
{
    const auto candidates = candidates_;
    session().editPart(tr("%1 left, %2 right").arg(names(choice.left), names(choice.right)), "double", [&](Part& part) {
        const auto give = [&](const std::vector<std::size_t>& takes, double side) {
            std::vector<std::size_t> given;
            for (const std::size_t index : takes) {
                const Take take = part.layers[candidates[index].layer].takes[candidates[index].take];
                const auto isFree = [&](std::size_t l) {
                    return part.layers[l].place * side > 0.0 && std::ranges::find(given, l) == given.end();
                };
                // Its own layer where that is on this side, else another one there, else a new one.
                std::size_t to = candidates[index].layer;
                for (std::size_t l = 0; l < part.layers.size() && !isFree(to); ++l)
                    if (isFree(l)) to = l;
                if (!isFree(to)) {
                    Layer made = part.layers[candidates[index].layer];
                    made.name = (side < 0.0 ? tr("Left %1") : tr("Right %1")).arg(part.layers.size() + 1).toStdString();
                    made.place = 100.0 * side;
                    made.takes.clear(), made.pieces.clear();
                    part.layers.push_back(std::move(made));
                    to = part.layers.size() - 1;
                }
                given.push_back(to);
                Layer& layer = part.layers[to];
                auto at = std::ranges::find(layer.takes, take.file, &Take::file);
                if (at == layer.takes.end()) layer.takes.push_back(take), at = std::prev(layer.takes.end());
                layer.chosen = std::size_t(at - layer.takes.begin());
                layer.pieces.clear();
            }
        };
        give(choice.left, -1.0);
        give(choice.right, 1.0);
    });
}

BenchFindings PairsPage::findings() const
{
    return {{},
            task_.isBusy() ? tr("Comparing \u2026")
                           : tr("A spread of half the width, in tune, no note missed: that costs least.")};
}

} // namespace gristle::app
