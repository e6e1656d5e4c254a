#include "app/benches/cab/impulse_list.h"

#include "app/theme/theme.h"
#include "app/widgets/figure_table.h"

#include <QPainter>
#include <algorithm>

namespace gristle::app {

using namespace core;

namespace {

constexpr std::size_t kMostCompared = 11; // more curves than that nobody reads

} // namespace

ImpulseList::ImpulseList(ImpulseLibrary& library, QObject* parent) : QAbstractTableModel(parent), library_(library)
{
    connect(&library, &ImpulseLibrary::changed, this, &ImpulseList::look);
}

void ImpulseList::setSearch(const QString& words)
{
    search_ = words;
    look();
}

void ImpulseList::setDuplicatesHidden(bool hidden)
{
    hidesDuplicates_ = hidden;
    look();
}

/// What fits now. Where the list only grew, rows are added, so that the choice and the scrolling stay.
void ImpulseList::look()
{
    std::vector<std::size_t> fits;
    const std::string words = search_.toStdString();
    for (std::size_t i = 0; i < library_.cards().size(); ++i)
        if (!(hidesDuplicates_ && library_.isDuplicate(i)) &&
            (words.empty() || matches(library_.cards()[i], library_.tagsOf(i), words)))
            fits.push_back(i);
    if (fits == shown_) {
        if (!shown_.empty()) emit dataChanged(index(0, 0), index(rowCount() - 1, kColumns - 1));
        return;
    }
    if (fits.size() > shown_.size() && std::equal(shown_.begin(), shown_.end(), fits.begin())) {
        beginInsertRows({}, int(shown_.size()), int(fits.size()) - 1);
        shown_ = std::move(fits);
        endInsertRows();
        return;
    }
    beginResetModel();
    shown_ = std::move(fits);
    endResetModel();
}

bool ImpulseList::isShown(const QModelIndex& index) const
{
    const auto row = std::size_t(index.row());
    return index.isValid() && row < shown_.size() && shown_[row] < library_.cards().size();
}

int ImpulseList::rowOf(const std::string& file) const
{
    const auto at = std::ranges::find_if(shown_, [&](std::size_t i) { return library_.cards()[i].file == file; });
    return at == shown_.end() ? -1 : int(at - shown_.begin());
}

int ImpulseList::rowCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : int(shown_.size()); }

QVariant ImpulseList::data(const QModelIndex& index, int role) const
{
    if (!isShown(index)) return {};
    const std::size_t at = cardOf(index.row());
    const ImpulseCard& card = library_.cards()[at];
    const auto tags = [&] {
        QStringList out;
        for (const std::string& tag : library_.tagsOf(at)) out << QString::fromStdString(tag);
        return out.join(", ");
    };
    switch (role) {
    case Qt::DisplayRole:
    case Qt::EditRole:
        if (index.column() == kName)
            return QString::fromStdString(std::filesystem::path(card.file).replace_extension().generic_string());
        if (index.column() == kLength && card.isImpulse()) return shownFigure(1000.0 * card.seconds, 0);
        if (index.column() == kTags) return tags();
        return {};
    case Qt::ToolTipRole:
        if (!card.isImpulse()) return tr("No impulse: %1").arg(QString::fromStdString(card.why));
        return tr("%1\n%2 Hz, %3, nine tenths of its energy within %4 ms%5")
            .arg(QString::fromStdString(card.file))
            .arg(card.rateHz)
            .arg(card.channels == 1 ? tr("mono") : tr("%1 channels").arg(card.channels),
                 shownFigure(card.energy90Ms, 1),
                 library_.isDuplicate(at) ? tr("\nthe same samples as one before it") : QString());
    case Qt::TextAlignmentRole:
        return int((index.column() == kLength ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter);
    case Qt::FontRole: return index.column() == kLength ? Theme::instance().mono() : Theme::instance().text();
    case Qt::ForegroundRole: return ink(!card.isImpulse() || library_.isDuplicate(at) ? Token::Ink3 : Token::Ink);
    case Qt::CheckStateRole:
        if (index.column() != kName || !card.isImpulse()) return {};
        return compared_.contains(card.file) ? Qt::Checked : Qt::Unchecked;
    default: return {};
    }
}

QVariant ImpulseList::headerData(int section, Qt::Orientation orientation, int role) const
{
    if (orientation != Qt::Horizontal) return {};
    if (role == Qt::TextAlignmentRole)
        return int((section == kLength ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter);
    if (role != Qt::DisplayRole) return {};
    const QString names[] = {tr("impulse"), tr("40 Hz to 14 kHz"), tr("ms"), tr("tags")};
    return names[section];
}

Qt::ItemFlags ImpulseList::flags(const QModelIndex& index) const
{
    Qt::ItemFlags out = Qt::ItemIsSelectable | Qt::ItemIsEnabled;
    if (!isShown(index) || !library_.cards()[cardOf(index.row())].isImpulse()) return out;
    if (index.column() == kName) out |= Qt::ItemIsUserCheckable;
    if (index.column() == kTags) out |= Qt::ItemIsEditable;
    return out;
}

bool ImpulseList::setData(const QModelIndex& index, const QVariant& value, int role)
{
    if (!isShown(index)) return false;
    const std::size_t at = cardOf(index.row());
    if (index.column() == kTags && role == Qt::EditRole) {
        library_.setTags(at, value.toString().split(',', Qt::SkipEmptyParts));
        return true;
    }
    if (index.column() != kName || role != Qt::CheckStateRole) return false;
    const std::string& file = library_.cards()[at].file;
    if (value.toInt() != Qt::Checked)
        compared_.erase(file);
    else if (compared_.size() < kMostCompared)
        compared_.insert(file);
    emit dataChanged(index, index);
    emit comparedChanged();
    return true;
}

void ResponseDelegate::paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const
{
    QStyledItemDelegate::paint(p, option, index); // the ground of a chosen row
    if (!list_.isShown(index)) return;
    const ImpulseCard& card = library_.cards()[list_.cardOf(index.row())];
    const QRectF area = QRectF(option.rect).adjusted(4, 3, -8, -3);
    p->save();
    p->setClipRect(option.rect);
    if (!card.isImpulse()) {
        p->setPen(ink(Token::Ink3));
        p->setFont(Theme::instance().text(TextSize::Small));
        p->drawText(area, Qt::AlignLeft | Qt::AlignVCenter, QString::fromStdString(card.why));
        p->restore();
        return;
    }
    constexpr double kLowDb = -30.0, kHighDb = 12.0;
    const auto y = [&](double db) {
        return area.bottom() - area.height() * (std::clamp(db, kLowDb, kHighDb) - kLowDb) / (kHighDb - kLowDb);
    };
    p->setPen(ink(Token::Rule));
    p->drawLine(QPointF(area.left(), y(0.0)), QPointF(area.right(), y(0.0)));
    QPolygonF line;
    for (std::size_t i = 0; i < ImpulseCard::kPoints; ++i)
        line << QPointF(area.left() + area.width() * double(i) / (ImpulseCard::kPoints - 1), y(double(card.db[i])));
    p->setRenderHint(QPainter::Antialiasing);
    p->setPen(QPen(ink(Token::Ink), 1.3));
    p->drawPolyline(line);
    p->restore();
}

} // namespace gristle::app
