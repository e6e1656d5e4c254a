#include "app/benches/log/log_model.h"

#include "app/theme/theme.h"

namespace gristle::app {

namespace {

constexpr std::size_t kBatch = 100;

} // namespace

void LogModel::clear()
{
    beginResetModel();
    entries_.clear();
    shown_ = 0;
    end_ = 0;
    endResetModel();
}

void LogModel::readOn(const core::SessionFolder& folder)
{
    core::LogPart part = folder.readLogFrom(end_);
    end_ = part.end;
    if (part.entries.empty()) return;
    const std::size_t more = entries_.empty() ? std::min(part.entries.size(), kBatch) : part.entries.size();
    beginInsertRows({}, 0, int(more) - 1); // the newest stand on top
    for (auto& entry : part.entries) entries_.push_back(std::move(entry));
    shown_ += more;
    endInsertRows();
}

int LogModel::rowCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : int(shown_); }
int LogModel::columnCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : kColumns; }

QVariant LogModel::data(const QModelIndex& index, int role) const
{
    const core::LogEntry& e = entries_[entries_.size() - 1 - std::size_t(index.row())];
    const bool isText = role == Qt::DisplayRole;
    switch (index.column()) {
    case Time:
        if (role == Qt::FontRole) return Theme::instance().mono(TextSize::Small);
        // To the minute; the file has the seconds.
        if (isText) return QString::fromStdString(e.time).replace('T', ' ').left(16);
        break;
    case What:
        if (isText) return QString::fromStdString(e.text);
        break;
    case Where:
        if (role == Qt::ForegroundRole) return ink(Token::Ink2);
        if (isText) return QString::fromStdString(e.where());
        break;
    }
    if (role == Qt::TextAlignmentRole) return int(Qt::AlignLeft | Qt::AlignTop);
    return {};
}

QVariant LogModel::headerData(int section, Qt::Orientation orientation, int role) const
{
    if (role != Qt::DisplayRole || orientation != Qt::Horizontal) return {};
    return section == Time ? tr("time") : section == What ? tr("what") : tr("where");
}

bool LogModel::canFetchMore(const QModelIndex& parent) const { return !parent.isValid() && shown_ < entries_.size(); }

void LogModel::fetchMore(const QModelIndex&)
{
    const std::size_t more = std::min(kBatch, entries_.size() - shown_);
    beginInsertRows({}, int(shown_), int(shown_ + more) - 1);
    shown_ += more;
    endInsertRows();
}

} // namespace gristle::app
