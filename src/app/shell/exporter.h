#pragma once

#include "app/models/session_task.h"
#include "app/shell/dialogs.h"
#include "core/actions/write_stems.h"

namespace gristle::app {

/// One file to be written by an export.
struct ExportJob {
    QString file;
    core::MixPlan plan;
};

/// Writes what leaves the session: the mix, each layer, the recall sheet, the log. Notes in the log what it wrote.
class Exporter : public QObject {
    Q_OBJECT
public:
    Exporter(SessionModel& session, Dialogs& dialogs, QObject* parent);

    void askMix();
    void askLayers();
    void askStems(core::StemsBy by);
    void askSheet(const QString& html);
    void askLog();
    void writeMix(const QString& file, bool isFloat);
    void writeLayers(const QString& folder, bool isFloat);
    void writeStems(const QString& folder, core::StemsBy by, bool isFloat);
    bool writeSheet(const QString& file, const QString& html);
    TaskRunner& task() { return task_; }

signals:
    void failed(const QString& message, const QString& remedy);

private:
    std::optional<core::MixPlan> plan();
    void write(const QString& title, std::vector<ExportJob> jobs, bool isFloat,
               const std::function<void(const core::MixAnswer&)>& done);
    void fail(const core::Error& error);

    SessionModel& session_;
    Dialogs& dialogs_;
    SessionTask task_{session_};
};

} // namespace gristle::app
