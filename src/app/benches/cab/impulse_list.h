#pragma once

#include "app/models/impulse_library.h"

#include <QAbstractTableModel>
#include <QStyledItemDelegate>

namespace gristle::app {

/// The impulses of a library that fit what is searched for, as rows of a table.
class ImpulseList : public QAbstractTableModel {
    Q_OBJECT
public:
    enum Column { kName, kResponse, kLength, kTags, kColumns };
    ImpulseList(ImpulseLibrary& library, QObject* parent);
    void setSearch(const QString& words);
    void setDuplicatesHidden(bool hidden);

    bool isShown(const QModelIndex& index) const; ///< a row of now, whose card is there
    std::size_t cardOf(int row) const { return shown_[std::size_t(row)]; }
    int rowOf(const std::string& file) const; ///< -1 where it is not shown
    /// Files that are compared besides the chosen one.
    const std::set<std::string>& compared() const { return compared_; }

    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& = {}) const override { return kColumns; }
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    Qt::ItemFlags flags(const QModelIndex& index) const override;
    bool setData(const QModelIndex& index, const QVariant& value, int role) override;

signals:
    void comparedChanged();

private:
    void look();
    ImpulseLibrary& library_;
    QString search_;
    bool hidesDuplicates_ = false;
    std::vector<std::size_t> shown_; ///< indices of cards
    std::set<std::string> compared_;
};

/// Paints a card's response: a curve on the line of its middle level.
class ResponseDelegate : public QStyledItemDelegate {
    Q_OBJECT
public:
    ResponseDelegate(const ImpulseLibrary& library, const ImpulseList& list, QObject* parent)
        : QStyledItemDelegate(parent), library_(library), list_(list)
    {}
    void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override;

private:
    const ImpulseLibrary& library_;
    const ImpulseList& list_;
};

} // namespace gristle::app
