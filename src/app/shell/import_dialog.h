#pragma once

#include "app/models/session_model.h"

#include <QDialog>

class QTableWidget;
class QCheckBox;
class QComboBox;

namespace gristle::app {

/// Good guesses for files that were dropped: part, side and name from the file names, guitar and pickup from last time.
std::vector<ImportRow> guessRows(const QStringList& files, const SessionModel& session);

/// One short step: what the files are.
class ImportDialog : public QDialog {
    Q_OBJECT
public:
    ImportDialog(std::vector<ImportRow> rows, QWidget* parent);
    std::vector<ImportRow> rows() const; ///< but for short files that are not wanted

private:
    std::vector<ImportRow> rows_;
    QTableWidget* table_;
    std::map<std::size_t, QCheckBox*> shorts_; ///< rows of files that are shorter than their header says
};

} // namespace gristle::app
