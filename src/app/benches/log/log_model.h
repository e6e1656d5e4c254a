#pragma once

#include "core/session/session_folder.h"

#include <QAbstractTableModel>

namespace gristle::app {

/// The log, newest first: time, what, where. Rows are handed to the view a hundred at a time, so that a long log opens
/// as fast as a short one, and new entries are read on from where the last ones ended.
class LogModel : public QAbstractTableModel {
    Q_OBJECT
public:
    enum Column { Time, What, Where, kColumns };
    using QAbstractTableModel::QAbstractTableModel;

    void clear();
    /// Reads what was added since.
    void readOn(const core::SessionFolder& folder);
    std::size_t entries() const { return entries_.size(); } ///< all of them, shown or not

    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    bool canFetchMore(const QModelIndex& parent) const override;
    void fetchMore(const QModelIndex& parent) override;

private:
    std::vector<core::LogEntry> entries_; ///< oldest first
    std::size_t shown_ = 0;               ///< the newest ones
    std::int64_t end_ = 0;
};

} // namespace gristle::app
