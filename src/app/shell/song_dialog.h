#pragma once

#include "core/session/session_document.h"

#include <QDialog>

class QComboBox;
class QDoubleSpinBox;
class QLineEdit;

namespace gristle::app {

/// Name, tempo, meter and tuning of a song.
class SongDialog : public QDialog {
    Q_OBJECT
public:
    SongDialog(const core::Song& song, QWidget* parent);
    void apply(core::Song& song) const;

private:
    QLineEdit *name_, *tuning_;
    QDoubleSpinBox* tempo_;
    QComboBox* meter_;
};

} // namespace gristle::app
