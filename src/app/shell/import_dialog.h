#pragma once

#include "app/models/session_model.h"

#include <QDialog>

class QTableWidget;
class QCheckBox;
class QComboBox;

namespace gristle::app {

/// Good guesses for files that were dropped: part, side and name from the file names, guitar and pickup from last time.
std::vector<ImportRow> guessRows(const QStringList& files, const SessionModel& session);

/// What a look at a file tells.
struct FileSides {
    int count = 0; ///< of its channels; 0 where the file cannot be read, which the import will say
    bool alike = false;
    bool saysWhere = false;                 ///< where in the song it belongs
    std::optional<double> heldS, promisedS; ///< where the file is shorter than its header says
};

/// One short step: what the files are.
class ImportDialog : public QDialog {
    Q_OBJECT
public:
    ImportDialog(std::vector<ImportRow> rows, QWidget* parent);
    std::vector<ImportRow> rows() const; ///< but for short files that are not wanted

private:
    void addWhat(int row);
    void fillChannels(int row);

    std::vector<ImportRow> rows_;
    std::vector<FileSides> sides_; ///< of the rows
    QCheckBox* byStamp_ = nullptr; ///< where a file says where it belongs
    QTableWidget* table_;
    std::map<std::size_t, QCheckBox*> shorts_; ///< rows of files that are shorter than their header says
};

} // namespace gristle::app
