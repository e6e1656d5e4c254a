#include "app/shell/dialogs.h"

#include "app/shell/import_dialog.h"

#include <QFileDialog>
#include <QInputDialog>
#include <QStandardPaths>

namespace gristle::app {

namespace {

const QString kAudioFilter = QStringLiteral("Audio (*.wav *.aif *.aiff *.flac *.w64 *.rf64)");

QString documentsFolder() { return QStandardPaths::writableLocation(QStandardPaths::DocumentsLocation); }

} // namespace

Dialogs realDialogs(QWidget* window)
{
    Dialogs d;
    d.openAudio = [window] {
        return QFileDialog::getOpenFileNames(window, QObject::tr("Bring takes in"), documentsFolder(), kAudioFilter);
    };
    d.openSession = [window] {
        return QFileDialog::getExistingDirectory(window, QObject::tr("Open a session"), documentsFolder());
    };
    d.openMidi = [window] {
        return QFileDialog::getOpenFileName(window, QObject::tr("Tempo and meter from"), documentsFolder(),
                                            QObject::tr("MIDI files (*.mid *.midi *.smf)"));
    };
    d.newSession = [window] {
        return QFileDialog::getSaveFileName(window, QObject::tr("Make a session"),
                                            documentsFolder() + QObject::tr("/Session.gristle"),
                                            QObject::tr("Session (*.gristle)"));
    };
    d.saveFile = [window](const QString& title, const QString& suggested, const QString& filter, QString* chosen) {
        return QFileDialog::getSaveFileName(window, title, documentsFolder() + "/" + suggested, filter, chosen);
    };
    d.folder = [window](const QString& title) {
        return QFileDialog::getExistingDirectory(window, title, documentsFolder());
    };
    d.name = [window](const QString& title, const QString& suggested) -> std::optional<QString> {
        bool isGiven = false;
        const QString name =
            QInputDialog::getText(window, title, QObject::tr("Name"), QLineEdit::Normal, suggested, &isGiven);
        return isGiven ? std::optional(name) : std::nullopt;
    };
    d.importRows = [window](std::vector<ImportRow> rows) -> std::optional<std::vector<ImportRow>> {
        ImportDialog dialog(std::move(rows), window);
        if (dialog.exec() != QDialog::Accepted) return std::nullopt;
        return dialog.rows();
    };
    return d;
}

} // namespace gristle::app
