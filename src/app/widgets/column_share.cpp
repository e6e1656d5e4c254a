#include "app/widgets/column_share.h"

#include <QHeaderView>
#include <QHelpEvent>
#include <QTableView>
#include <QTimer>
#include <QToolTip>
#include <algorithm>
#include <numeric>

namespace gristle::app {

std::vector<int> sharedWidths(const std::vector<int>& wanted, int room)
{
    std::vector<int> out = wanted;
    const int all = std::accumulate(wanted.begin(), wanted.end(), 0);
    if (wanted.empty() || room <= 0) return out;
    if (all <= room) {
        int left = room;
        for (std::size_t i = 0; i < out.size(); ++i) {
            out[i] = all > 0 ? int(qint64(wanted[i]) * room / all) : room / int(out.size());
            left -= out[i];
        }
        out.back() += left;
        return out;
    }
    std::vector<std::size_t> order(out.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::ranges::sort(order, {}, [&](std::size_t i) { return wanted[i]; });
    int left = room;
    for (std::size_t k = 0; k < order.size(); ++k) { // the narrow ones have what they want
        const int share = left / int(order.size() - k);
        out[order[k]] = std::min(wanted[order[k]], share);
        left -= out[order[k]];
    }
    out[order.back()] += left;
    return out;
}

namespace {

class ColumnShare : public QObject {
public:
    explicit ColumnShare(QTableView* table) : QObject(table), table_(table)
    {
        table->setTextElideMode(Qt::ElideMiddle);
        // The columns are as wide as the room: a bar would change the room, and so itself come and go without end.
        table->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
        table->setWordWrap(false); // else a name is cut at its end, where it differs
        table->horizontalHeader()->setSectionResizeMode(QHeaderView::Fixed);
        table->viewport()->installEventFilter(this);
        timer_.setSingleShot(true); // many changes, one look
        connect(&timer_, &QTimer::timeout, this, &ColumnShare::share);
        const auto* model = table->model();
        const auto later = [this] { timer_.start(); };
        connect(model, &QAbstractItemModel::dataChanged, this, later);
        connect(model, &QAbstractItemModel::modelReset, this, later);
        connect(model, &QAbstractItemModel::rowsInserted, this, later);
        connect(model, &QAbstractItemModel::headerDataChanged, this, later);
        share();
    }
    bool eventFilter(QObject* object, QEvent* event) override
    {
        if (event->type() == QEvent::Resize || event->type() == QEvent::Show) share();
        if (event->type() == QEvent::ToolTip && tellsWhole(*static_cast<QHelpEvent*>(event))) return true;
        return QObject::eventFilter(object, event);
    }

private:
    /// What is cut is told whole where the pointer rests on it, unless the cell has something better to say.
    bool tellsWhole(const QHelpEvent& event)
    {
        const QModelIndex index = table_->indexAt(event.pos());
        if (!index.isValid() || index.data(Qt::ToolTipRole).isValid()) return false;
        if (hint(index) <= table_->columnWidth(index.column())) return false;
        QToolTip::showText(event.globalPos(), index.data().toString(), table_->viewport(), table_->visualRect(index));
        return true;
    }
    void share()
    {
        constexpr int kMostRows = 200; // that are looked at: a list may be long
        constexpr int kBesideHead = 16;
        auto* header = table_->horizontalHeader();
        std::vector<int> wanted, columns;
        for (int c = 0; c < table_->model()->columnCount(); ++c) {
            if (table_->isColumnHidden(c)) continue;
            const QString head = table_->model()->headerData(c, Qt::Horizontal).toString(); // of lines, maybe
            int width = header->fontMetrics().size(0, head).width() + kBesideHead;
            for (int r = 0; r < std::min(kMostRows, table_->model()->rowCount()); ++r) {
                const QModelIndex index = table_->model()->index(r, c);
                if (const QWidget* w = table_->indexWidget(index))
                    width = std::max(width, w->sizeHint().width() + kBesideHead);
                else if (table_->columnSpan(r, c) == 1)
                    width = std::max(width, hint(index));
            }
            wanted.push_back(width);
            columns.push_back(c);
        }
        const int room = table_->viewport()->width();
        if (room == room_ && wanted == wanted_) return;
        room_ = room, wanted_ = wanted;
        const auto widths = sharedWidths(wanted, room);
        for (std::size_t i = 0; i < widths.size(); ++i) header->resizeSection(columns[i], widths[i]);
    }
    int hint(const QModelIndex& index) const
    {
        constexpr int kBesides = 24; // the style's padding on both sides
        const QVariant own = index.data(Qt::FontRole);
        const QFontMetrics metrics = own.isValid() ? QFontMetrics(own.value<QFont>()) : table_->fontMetrics();
        const int check = index.data(Qt::CheckStateRole).isValid() ? 22 : 0;
        return metrics.horizontalAdvance(index.data().toString()) + check + kBesides;
    }

    QTableView* table_;
    QTimer timer_;
    int room_ = -1;
    std::vector<int> wanted_;
};

} // namespace

void shareByContent(QTableView* table) { new ColumnShare(table); }

} // namespace gristle::app
