#include "app/benches/double/pairs_page.h"

#include "app/widgets/column_share.h"
#include "app/widgets/figure_table.h"

#include <QHeaderView>

namespace gristle::app {

using namespace core;

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

QString PairsPage::nameOf(std::size_t take) const
{
    const PartTakes::One& one = takes_.takes[take];
    return tr("%1, take %2").arg(QString::fromStdString(session().part()->layers[one.layer].name)).arg(one.take + 1);
}

QString PairsPage::names(const std::vector<std::size_t>& takes) const
{
    QStringList out;
    for (const std::size_t t : takes) out << nameOf(t);
    return out.join(tr(" and "));
}

/// Compares what is not known yet, once somebody looks.
void PairsPage::look()
{
    if (!isVisible() || !session().isOpen() || !session().part()) return;
    takes_ = takesOf(session().folder(), *session().song(), *session().part());
    about_->setText(
        tr("Cost: how loosely the two are played, how they are tuned, notes that only one has, and what each "
           "take has amiss by itself. Less is better.") +
        (takes_.isCut ? tr(" The last %1 takes of the part are compared.").arg(PartTakes::kMost) : QString()));
    const std::string key = takes_.key();
    if (key == key_) return fill();
    key_ = key;
    task_.run<std::shared_ptr<PairMemory>>(
        tr("Comparing the takes"),
        [takes = takes_, memory = memory_](const Progress& p) {
            return std::make_shared<PairMemory>(comparePairs(takes, memory, p));
        },
        [this](std::shared_ptr<PairMemory> memory) {
            memory_ = std::move(*memory);
            fill();
        });
    fill();
}

void PairsPage::fill()
{
    const DoubleLimits limits = session().doubleStyle().limits;
    const PairsOfPart pairs = choosePairs(takes_, memory_, limits);
    table_->setRowCount(int(pairs.rows.size()));
    for (std::size_t r = 0; r < pairs.rows.size(); ++r) {
        const DoubleTake& t = *pairs.rows[r].compared->take;
        const bool isTold = !t.isUnrelated;
        const auto figure = [&](int column, const std::optional<double>& v, int digits) {
            table_->setItem(int(r), column, figureCell(isTold && v ? shownFigure(*v, digits) : QString(QChar(0x2013))));
        };
        table_->setItem(int(r), 0, wordCell(nameOf(pairs.rows[r].first)));
        table_->setItem(int(r), 1, wordCell(nameOf(pairs.rows[r].second)));
        figure(2, t.offsetSdMs, 1);
        figure(3, t.offsetMedianMs, 1);
        figure(4, t.tuningMeanCents, 1);
        figure(5, double(t.unmatchedFirst + t.unmatchedSecond), 0);
        table_->setItem(int(r), 6, wordCell(QString::fromStdString(pairWord(t, limits))));
        table_->setItem(int(r), 7, figureCell(shownFigure(pairs.rows[r].cost, 2)));
    }
    two_ = pairs.two, four_ = pairs.four;
    if (takes_.takes.size() < 2)
        sentence_->setText(tr("It takes two takes of one part. Record another on the Take bench."));
    else if (!pairs.isWhole)
        sentence_->setText(tr("Comparing \u2026"));
    else if (two_->cost >= kNoWidthCost)
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
    useTwo_->setEnabled(two_ && two_->cost < kNoWidthCost);
    useFour_->setEnabled(four_ && four_->cost < kNoWidthCost);
    if (four_ && four_->cost < kNoWidthCost)
        useFour_->setToolTip(tr("%1 on one side, %2 on the other").arg(names(four_->left), names(four_->right)));
    emit stateChanged();
}

/// Gives the takes to layers: those of one side to layers that are placed there. A layer without a place of its own is
/// made opposite.
void PairsPage::use(const SideChoice& choice)
{
    const auto candidates = takes_.takes;
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
