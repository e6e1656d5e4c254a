#include "app/benches/level/gains_page.h"

#include "app/models/guided_check.h"
#include "app/theme/theme.h"
#include "app/widgets/column_share.h"
#include "app/widgets/plot.h"

#include <QCheckBox>
#include <QHeaderView>
#include <QTableWidget>
#include <QVBoxLayout>
#include <ranges>

namespace gristle::app {

using namespace core;

namespace {

enum Column { When, Guitar, Pickup, Interface, Gain, Average, Peak, Floor, Why, With, Columns };

QString text(const std::string& s) { return QString::fromStdString(s); }

/// Sorted by its number; without one it shows a dash.
class Level : public QTableWidgetItem {
public:
    explicit Level(std::optional<double> db)
        : QTableWidgetItem(db ? numberLabel(*db, 1) : QString(QChar(0x2013))), db_(db.value_or(-1e9))
    {
        setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        setFont(Theme::instance().mono(TextSize::Normal));
    }
    bool operator<(const QTableWidgetItem& other) const override
    {
        return db_ < static_cast<const Level&>(other).db_; // a column has one kind
    }

private:
    double db_;
};

QString timesWords(int n)
{
    return n == 1 ? GainsPage::tr("once") : n == 2 ? GainsPage::tr("twice") : GainsPage::tr("%1 times").arg(n);
}

QString withWords(const PlayedWith& w)
{
    QStringList out;
    const auto add = [&](const QString& words, const std::string& value) {
        if (!value.empty()) out << words.arg(text(value));
    };
    add(QStringLiteral("%1"), w.strings);
    add(QStringLiteral("%1"), w.pick);
    add(GainsPage::tr("volume %1"), w.volume);
    add(GainsPage::tr("tone %1"), w.tone);
    if (w.capo != "none") add(GainsPage::tr("capo %1"), w.capo);
    add(QStringLiteral("%1"), w.tuning);
    add(GainsPage::tr("heard on %1"), w.listenedOn);
    return out.join(QStringLiteral(", "));
}

} // namespace

GainsPage::GainsPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Gains"), tr("Which gain was right for which guitar?"), parent)
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* row = new QHBoxLayout;
    sentence_ = named(new QLabel(this), "gainsSentence", tr("What the book says of the guitar in hand"));
    sentence_->setWordWrap(true);
    onlyThis_ = named(new QCheckBox(tr("only the guitar in hand"), this), "gainsOnlyThis",
                      tr("Show only the entries of the guitar of this layer"));
    connect(onlyThis_, &QCheckBox::toggled, this, &GainsPage::refresh);
    row->addWidget(sentence_, 1);
    row->addWidget(onlyThis_);
    column->addLayout(row);
    table_ = named(new QTableWidget(0, Columns, this), "gainsTable", tr("The gain book"));
    table_->setHorizontalHeaderLabels({tr("date"), tr("guitar"), tr("pickup"), tr("interface"), tr("gain"),
                                       tr("average"), tr("peak"), tr("noise"), tr("moved by"), tr("with")});
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setShowGrid(false);
    table_->verticalHeader()->hide();
    table_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->setWordWrap(false);
    table_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff); // what is long ends in dots, and is told on hovering
    shareByContent(table_);
    for (const Column c : {Average, Peak, Floor})
        table_->horizontalHeaderItem(c)->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    column->addWidget(table_, 1);
    details_ = named(new QLabel(this), "gainsDetails", tr("The chosen entry in full"));
    details_->setProperty("tone", "2");
    details_->setWordWrap(true);
    column->addWidget(details_);
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        const int chosen = table_->currentRow();
        const auto of = [&](Column c) {
            return table_->item(chosen, c) ? table_->item(chosen, c)->toolTip() : QString();
        };
        details_->setText(chosen < 0 ? QString()
                                     : tr("%1 \u00b7 %2, %3, on %4 \u00b7 %5")
                                           .arg(of(When), of(Guitar), of(Pickup), of(Interface), of(With)));
    });
    connect(&session(), &SessionModel::pathChanged, this, &GainsPage::refresh);
}

void GainsPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    refresh();
}

void GainsPage::refresh()
{
    if (!isVisible() || !session().isOpen()) return;
    const GainBook book(gainBookFile()); // small, and another window may have added to it
    const std::string guitar = session().layer() ? session().layer()->guitar : std::string();
    table_->setSortingEnabled(false);
    table_->setRowCount(0);
    int ofThis = 0;
    const GainEntry* last = nullptr;
    for (const GainEntry& e : std::views::reverse(book.entries())) { // the newest of a day first
        const bool isThis = !guitar.empty() && text(e.guitar).compare(text(guitar), Qt::CaseInsensitive) == 0;
        ofThis += isThis;
        if (isThis && !last) last = &e;
        if (onlyThis_->isChecked() && !isThis) continue;
        const int row = table_->rowCount();
        table_->insertRow(row);
        const auto put = [&](Column column, const QString& words) {
            auto* item = new QTableWidgetItem(words);
            item->setToolTip(words);
            table_->setItem(row, column, item);
        };
        put(When, text(e.when).left(10));
        table_->item(row, When)->setToolTip(text(e.when).replace('T', ' '));
        put(Guitar, text(e.guitar));
        put(Pickup, text(e.pickup));
        put(Interface, tr("%1, input %2").arg(text(e.interface)).arg(e.input));
        put(Gain, e.gain.empty() ? QString(QChar(0x2013)) : text(e.gain));
        table_->setItem(row, Average, new Level(e.averageDbfs));
        table_->setItem(row, Peak, new Level(e.peakDbtp));
        table_->setItem(row, Floor, new Level(e.floorDbfs));
        put(With, withWords(e.with));
        put(Why, text(e.why));
    }
    table_->setSortingEnabled(true);
    table_->sortItems(When, Qt::DescendingOrder);
    table_->selectRow(0);
    sentence_->setText(book.entries().empty() ? tr("Nothing yet: make a check, note what the knob shows, and keep it.")
                       : last ? tr("%1: %2; noted %3.").arg(text(guitar), text(gainSentence(*last)), timesWords(ofThis))
                       : guitar.empty() ? tr("This layer names no guitar yet.")
                                        : tr("Nothing yet of %1.").arg(text(guitar)));
}

BenchFindings GainsPage::findings() const
{
    return {{}, tr("What is kept after a check stands here, for every session.")};
}

} // namespace gristle::app
