#pragma once

#include "core/session/session_document.h"

#include <QDialog>

class QComboBox;
class QLineEdit;
class QSpinBox;

namespace gristle::app {

/// How a part is played, beyond its notes: pick, cloth over the strings, capo, age of the strings.
class PlayingDialog : public QDialog {
    Q_OBJECT
public:
    PlayingDialog(const core::PlayingNotes& notes, QWidget* parent);
    core::PlayingNotes notes() const;
    static QString textOf(const core::PlayingNotes& notes); ///< "1.2 mm pick, cloth at the nut, capo 2"

private:
    QLineEdit *pick_, *cloth_, *strings_;
    QSpinBox* capo_;
};

} // namespace gristle::app
