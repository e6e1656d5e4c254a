#pragma once

#include "core/session/session_document.h"

#include <QDialog>
#include <functional>

class QComboBox;
class QDoubleSpinBox;
class QLabel;
class QLineEdit;

namespace gristle::app {

/// Name, tempo, meter and tuning of a song, and the changes of tempo and meter that a MIDI file brings.
class SongDialog : public QDialog {
    Q_OBJECT
public:
    /// @param askMidi  which MIDI file; empty: none
    SongDialog(const core::Song& song, std::function<QString()> askMidi, QWidget* parent);
    void apply(core::Song& song) const;

private:
    void takeMap();
    void tellMap();

    std::function<QString()> askMidi_;
    std::vector<core::TempoChange> tempos_;
    std::vector<core::MeterChange> meters_;
    std::vector<core::Section> sections_;
    QLabel* map_;
    QLineEdit *name_, *tuning_;
    QDoubleSpinBox *tempo_, *reference_;
    QComboBox* meter_;
};

} // namespace gristle::app
