#pragma once

#include "app/benches/blend/blend_bench.h"
#include "app/models/session_task.h"
#include "app/shell/dialogs.h"

namespace gristle::app {

/// Writes what leaves the session: the mix, each layer, the recall sheet, the log. Notes in the log what it wrote.
class Exporter : public QObject {
    Q_OBJECT
public:
    Exporter(SessionModel& session, const BlendBench& blend, Dialogs& dialogs, QObject* parent);

    void askMix();
    void askLayers();
    void askSheet(const QString& html);
    void askLog();
    void writeMix(const QString& file, bool isFloat);
    void writeLayers(const QString& folder, bool isFloat);
    bool writeSheet(const QString& file, const QString& html);
    TaskRunner& task() { return task_; }

signals:
    void failed(const QString& message, const QString& remedy);

private:
    std::vector<core::MixLayer> layers(const QString& nothing);
    void fail(const core::Error& error);

    SessionModel& session_;
    const BlendBench& blend_;
    Dialogs& dialogs_;
    SessionTask task_{session_};
};

} // namespace gristle::app
