#pragma once

#include "app/models/session_model.h"

class QWidget;

namespace gristle::app {

/// What the window asks people; replaced in tests.
struct Dialogs {
    std::function<QStringList()> openAudio;
    std::function<QString()> openSession;
    std::function<QString()> openMidi;
    std::function<QString()> newSession;
    std::function<QString(const QString& title, const QString& suggested, const QString& filter, QString* chosenFilter)>
        saveFile;
    std::function<QString(const QString& title)> folder;
    /// A name; none where somebody thought better of it.
    std::function<std::optional<QString>(const QString& title, const QString& suggested)> name;
    std::function<std::optional<std::vector<ImportRow>>(std::vector<ImportRow>)> importRows;
};

/// Those that people see.
Dialogs realDialogs(QWidget* window);

} // namespace gristle::app
