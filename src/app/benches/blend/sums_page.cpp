#include "app/benches/blend/sums_page.h"

#include "app/benches/blend/place_ruler.h"
#include "app/benches/blend/sum_tree.h"
#include "app/models/slots.h"
#include "app/widgets/column_share.h"
#include "core/actions/write_stems.h"
#include "core/advice/file_findings.h"
#include "core/advice/mix_findings.h"
#include "core/session/bus_edit.h"
#include "core/session/layer_role.h"
#include "core/units/number_text.h"

#include <QComboBox>
#include <QHeaderView>
#include <QScrollArea>
#include <QTableWidget>

namespace gristle::app {

using namespace core;

namespace {

enum Column { kName, kGain, kInto, kRig, kLoses };
constexpr double kBadLossDb = 2.0, kMostGainDb = 60.0;

const QString kBoxRoom = QStringLiteral("      "); // of a list's arrow, where a column takes its width from text

QString text(const std::string& s) { return QString::fromStdString(s); }
QString rigName(const std::string& file) { return text(file).section('/', -1).chopped(5); }

QTableWidgetItem* cell(const QString& shown, bool isEditable, bool isFigure)
{
    auto* item = new QTableWidgetItem(shown);
    item->setFlags(Qt::ItemIsSelectable | Qt::ItemIsEnabled | (isEditable ? Qt::ItemIsEditable : Qt::NoItemFlags));
    if (isFigure) {
        item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        item->setFont(Theme::instance().mono(TextSize::Normal, isEditable));
    }
    return item;
}

} // namespace

SumsPage::SumsPage(const BenchContext& context, SongSum& sum, QWidget* parent)
    : BenchPage(context, tr("Sums"), tr("What meets where, and what is lost there?"), parent), sum_(sum)
{
    build();
    for (auto signal : {&SessionModel::documentChanged, &SessionModel::rigChanged, &SessionModel::pathChanged})
        connect(&session(), signal, this, &SumsPage::refresh);
    connect(&session(), &SessionModel::closing, this, [this] { chosen_ = 0; });
    connect(&sum_, &SongSum::changed, this, [this] {
        if (!isVisible()) return;
        show();
        emit stateChanged();
    });
    connect(&Theme::instance(), &Theme::changed, this, &SumsPage::refresh);
}

void SumsPage::build()
{
    auto* column = layOut("sumsSentence", sentence_);
    auto* scroll = named(new QScrollArea(this), "sumScroll", tr("What meets where"));
    tree_ = new SumTree(scroll);
    scroll->setWidget(tree_);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    connect(tree_, &SumTree::choose, this, [this](int shown) { choose(sumOf_[std::size_t(shown)]); });
    column->addWidget(scroll, 5);
    addRouting(column);
    auto* below = addRow(column, 18);
    table_ = named(new QTableWidget(0, 5, this), "busTable",
                   tr("Sums: gain in dB, where each goes, its rig. Type a gain and press Enter"));
    table_->setHorizontalHeaderLabels({tr("sum"), tr("gain, dB"), tr("goes into"), tr("rig"), tr("loses, dB")});
    for (int c = 0; c < table_->columnCount(); ++c) {
        const bool isFigure = c == kGain || c == kLoses;
        table_->horizontalHeaderItem(c)->setTextAlignment((isFigure ? Qt::AlignRight : Qt::AlignLeft) |
                                                          Qt::AlignVCenter);
    }
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(30);
    table_->setShowGrid(false);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setTabKeyNavigation(false);
    shareByContent(table_);
    connect(table_, &QTableWidget::cellChanged, this, &SumsPage::cellTyped);
    connect(table_, &QTableWidget::currentCellChanged, this, [this](int row) {
        if (!refreshing_ && row >= 0) choose(std::size_t(row));
    });
    below->addWidget(table_, 5);
    loss_ = new BandPlot(tr("What it loses by octave, dB"), -6.0, 12.0, {-3, 0, 3, 6, 9, 12}, this);
    loss_->setObjectName("sumLossPlot");
    below->addWidget(loss_, 2);
}

void SumsPage::addRouting(QVBoxLayout* column)
{
    auto* row = addRow(column);
    by_ = named(new QComboBox(this), "gatherBy", tr("What shares a bus"));
    by_->addItem(tr("by amplifier"), int(BusesBy::Amplifier));
    by_->addItem(tr("by side"), int(BusesBy::Side));
    by_->addItem(tr("by part"), int(BusesBy::Part));
    addButton(row, tr("Gather"), "gather", tr("Lead every guitar layer of the song into a bus of its kind"), [this] {
        change(tr("Layers gathered in buses %1").arg(by_->currentText()), [this](Song& s) -> Outcome {
            makeBuses(s, BusesBy(by_->currentData().toInt()));
            return Done{};
        });
    });
    row->addWidget(by_);
    addButton(row, tr("Add bus"), "addBus", tr("A bus that nothing goes into yet"), [this] {
        change(tr("Bus added"), [](Song& s) -> Outcome {
            for (int n = int(s.buses.size()) + 1;; ++n)
                if (addBus(s, "Bus " + std::to_string(n))) return Done{};
        });
    });
    remove_ =
        addButton(row, tr("Remove"), "removeBus", tr("Remove the bus; what goes into it goes where it went"), [this] {
            const std::string name = song() && chosen_ < song()->buses.size() ? song()->buses[chosen_].name : "";
            change(tr("Bus removed: %1").arg(text(name)), [name](Song& s) { return removeBus(s, name); });
        });
    row->addStretch(1);
    layer_ = new QLabel(this);
    layer_->setObjectName("layerInHand");
    row->addWidget(layer_);
    into_ = named(new QComboBox(this), "layerInto", tr("The bus that the layer in hand goes into"));
    connect(into_, &QComboBox::activated, this, [this](int index) {
        const std::string bus = into_->itemData(index).toString().toStdString();
        const LayerPath at = session().path();
        change(tr("%1 goes into %2").arg(text(session().layer()->name), into_->itemText(index)),
               [at, bus](Song& s) { return leadLayer(s, s.parts[at.part].layers[at.layer], bus); });
    });
    row->addWidget(into_);
}

std::size_t SumsPage::sums() const { return song() ? song()->buses.size() + 1 : 0; }

/// What was measured of a sum; nothing where the song has others by now.
std::optional<JoinFigures> SumsPage::join(std::size_t sum) const
{
    if (!sum_.report() || sum_.report()->joins.size() != sums()) return std::nullopt;
    return sum_.report()->joins[sum].count > 0 ? std::optional(sum_.report()->joins[sum]) : std::nullopt;
}

/// Changes the song in hand, or says why not.
void SumsPage::change(const QString& said, const std::function<Outcome(Song&)>& work)
{
    if (!song()) return;
    if (const auto done = sum_.change(said, "bus", work); !done) {
        tellFailure(done.error());
        return refresh();
    }
    emit auditionChanged();
}

void SumsPage::choose(std::size_t sum)
{
    chosen_ = sum;
    show();
    emit auditionChanged();
}

void SumsPage::refresh()
{
    if (!isVisible()) return; // what nobody looks at is not rendered
    if (chosen_ >= sums()) chosen_ = sums() > 0 ? sums() - 1 : 0;
    sum_.look();
    show();
}

void SumsPage::show()
{
    fillTree();
    fillTable();
    fillLayer();
    const auto shown = join(chosen_);
    std::vector<QPointF> points;
    if (shown)
        for (std::size_t b = 0; b < kOctaveHz.size(); ++b) points.push_back({kOctaveHz[b], shown->octaveLossDb[b]});
    loss_->setCurve(std::move(points), -3.0, 0.5);
    if (!sum_.report() || sum_.report()->joins.size() != sums())
        return sentence_->setText(!sum_.trouble().isEmpty() ? sum_.trouble()
                                  : sum_.isBusy()           ? tr("Measuring the song \u2026")
                                                  : tr("Bring takes into the song: what meets is measured here."));
    std::size_t worst = 0;
    for (std::size_t i = 1; i < sum_.report()->joins.size(); ++i)
        if (sum_.report()->joins[i].lossDb > sum_.report()->joins[worst].lossDb) worst = i;
    const JoinFigures& most = sum_.report()->joins[worst];
    const QString layers = sum_.report()->layers.size() == 1 ? tr("One layer plays")
                                                             : tr("%1 layers meet").arg(sum_.report()->layers.size());
    sentence_->setText(
        most.lossDb < kBadLossDb
            ? tr("%1, and none of the sums loses more than it should.").arg(layers)
            : tr("%1; in \u201c%2\u201d %3 dB are lost.").arg(layers, text(most.name), text(figureText(most.lossDb))));
}

void SumsPage::fillTree()
{
    std::vector<TreeSignal> all;
    sumOf_.clear();
    if (!song()) return tree_->setSignals({}, -1);
    const auto& buses = song()->buses;
    const auto numberOf = [&](const std::string& name) { // in the tree: buses first, then the song
        const auto at = std::ranges::find(buses, name, &Bus::name);
        return int(at - buses.begin());
    };
    const auto sumSignal = [&](const std::string& name, double gainDb, int into, std::size_t sum) {
        TreeSignal out{text(name), text(signedText(gainDb)), into};
        out.isSum = true;
        if (const auto figures = join(sum)) out.lossDb = figures->lossDb, out.isBad = figures->lossDb >= kBadLossDb;
        all.push_back(std::move(out));
        sumOf_.push_back(sum);
    };
    const auto sendsOf = [&](TreeSignal& from, const std::vector<Send>& sends) {
        for (const Send& send : sends)
            if (numberOf(send.to) < int(buses.size())) from.sends.push_back(numberOf(send.to));
    };
    for (std::size_t b = 0; b < buses.size(); ++b) {
        sumSignal(buses[b].name, buses[b].gainDb, numberOf(buses[b].into), b);
        sendsOf(all.back(), buses[b].sends);
    }
    sumSignal(song()->name, song()->gainDb, -1, buses.size());
    for (const Part& part : song()->parts)
        for (const Layer& layer : part.layers) {
            if (layer.takes.empty() || !isInMix(layer.role)) continue;
            all.push_back({tr("%1 \u203a %2").arg(text(part.name), text(layer.name)),
                           text(signedText(layer.gainDb)) + tr(" dB"), numberOf(layer.bus)});
            sendsOf(all.back(), layer.sends);
            sumOf_.push_back(buses.size());
        }
    if (all.size() == buses.size() + 1) all.clear(); // nothing plays
    tree_->setSignals(std::move(all), int(chosen_));
}

void SumsPage::fillTable()
{
    refreshing_ = true;
    table_->setRowCount(int(sums()));
    const auto rigs = session().isOpen() ? session().folder().rigFiles() : std::vector<std::string>{};
    for (std::size_t i = 0; i < sums(); ++i) {
        const bool isSong = i == song()->buses.size();
        const Bus bus = isSong ? Bus{song()->name, song()->rig, song()->gainDb, {}} : song()->buses[i];
        const auto figures = join(i);
        const int row = int(i);
        table_->setItem(row, kName, cell(text(bus.name), !isSong, false));
        table_->setItem(row, kGain, cell(text(signedText(bus.gainDb)), true, true));
        table_->setItem(row, kLoses,
                        cell(figures ? text(signedText(figures->lossDb)) : QString(QChar(0x2013)), false, true));
        if (isSong) {
            table_->removeCellWidget(row, kInto);
            table_->setItem(row, kInto, cell(tr("output"), false, false));
        } else {
            table_->setItem(row, kInto, cell(tr("the song") + kBoxRoom, false, false));
            table_->setCellWidget(row, kInto, intoBox(row, bus));
        }
        auto* rig = named(new QComboBox(table_), "", tr("The rig over %1").arg(text(bus.name)));
        rig->setObjectName(QStringLiteral("busRig.%1").arg(row));
        rig->addItem(tr("none"), QString());
        for (const auto& file : rigs) rig->addItem(rigName(file), text(file));
        rig->setCurrentIndex(std::max(0, rig->findData(text(bus.rig))));
        connect(rig, &QComboBox::activated, this, [this, isSong, name = bus.name, rig](int index) {
            const std::string file = rig->itemData(index).toString().toStdString();
            change(tr("Rig over %1: %2").arg(text(name), rig->itemText(index)), [=](Song& s) -> Outcome {
                if (!isSong) return changeBus(s, name, [&](Bus& b) { b.rig = file; });
                s.rig = file;
                return Done{};
            });
        });
        table_->setItem(row, kRig, cell(rig->currentText() + kBoxRoom, false, false));
        table_->setCellWidget(row, kRig, rig);
    }
    if (sums() > 0) table_->selectRow(int(chosen_));
    table_->setFixedHeight(34 + 30 * std::clamp(int(sums()), 2, 5));
    loss_->setFixedHeight(std::max(table_->height(), 150));
    remove_->setEnabled(song() && chosen_ < song()->buses.size());
    refreshing_ = false;
}

/// Where a bus goes: the song, or another.
QComboBox* SumsPage::intoBox(int row, const Bus& bus)
{
    auto* into = named(new QComboBox(table_), "", tr("Where %1 goes").arg(text(bus.name)));
    into->setObjectName(QStringLiteral("into.%1").arg(row));
    into->addItem(tr("the song"), QString());
    for (const Bus& other : song()->buses)
        if (other.name != bus.name) into->addItem(text(other.name), text(other.name));
    into->setCurrentIndex(std::max(0, into->findData(text(bus.into))));
    connect(into, &QComboBox::activated, this, [this, name = bus.name, into](int index) {
        const std::string to = into->itemData(index).toString().toStdString();
        change(tr("%1 goes into %2").arg(text(name), into->itemText(index)),
               [name, to](Song& s) { return changeBus(s, name, [&](Bus& b) { b.into = to; }); });
    });
    return into;
}

void SumsPage::fillLayer()
{
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    layer_->setText(layer ? tr("%1 goes into").arg(text(layer->name)) : QString());
    into_->clear();
    into_->setEnabled(layer && !song()->buses.empty());
    into_->addItem(tr("the song"), QString());
    if (!layer) return;
    for (const Bus& bus : song()->buses) into_->addItem(text(bus.name), text(bus.name));
    into_->setCurrentIndex(std::max(0, into_->findData(text(layer->bus))));
}

void SumsPage::cellTyped(int row, int column)
{
    if (refreshing_ || !song()) return;
    const bool isSong = std::size_t(row) == song()->buses.size();
    const std::string name = isSong ? song()->name : song()->buses[std::size_t(row)].name;
    QString typed = table_->item(row, column)->text().trimmed();
    if (column == kName) {
        const std::string to = typed.toStdString();
        return change(tr("Bus renamed: %1").arg(typed), [name, to](Song& s) { return renameBus(s, name, to); });
    }
    if (column != kGain) return;
    typed.replace(QChar(0x2212), '-');
    const auto gain = parseNumber(typed.toStdString());
    if (!gain || std::abs(*gain) > kMostGainDb) {
        emit failed(tr("%1: %2 is no figure in range").arg(text(name), typed),
                    tr("write a number from \u2212%1 to %1").arg(kMostGainDb));
        return refresh();
    }
    change(tr("%1 gain %2 dB").arg(text(name)).arg(*gain), [=](Song& s) -> Outcome {
        if (!isSong) return changeBus(s, name, [&](Bus& b) { b.gainDb = *gain; });
        s.gainDb = *gain;
        return Done{};
    });
}

BenchFindings SumsPage::findings() const
{
    BenchFindings out{{}, tr("Lead layers that belong together into a bus: what each sum loses is measured here.")};
    if (!sum_.trouble().isEmpty()) out.found = {sumUnreadableFinding(sum_.trouble().toStdString())};
    if (sum_.report() && song()) out.found = mixFindings(*sum_.report(), sum_.warnings(), song()->name);
    return out;
}

AuditionRequest SumsPage::audition() const
{
    AuditionRequest out;
    out.kind = "sums";
    const auto all = sum_.plan(Effort::Playing);
    if (!all) return out;
    out.subject = tr("%1, all parts").arg(text(song()->name));
    out.slots_.push_back(mixSlot(tr("All"), all->layers, all->options));
    if (chosen_ < all->options.buses.size()) {
        const MixPlan only = onlyThrough(*all, chosen_);
        out.slots_.push_back(
            mixSlot(tr("Only %1").arg(text(all->options.buses[chosen_].name)), only.layers, only.options));
    }
    return out;
}

} // namespace gristle::app
