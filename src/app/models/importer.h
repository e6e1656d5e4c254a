#pragma once

#include "app/tasks/task_runner.h"
#include "core/session/session_document.h"

#include <QString>
#include <vector>

namespace gristle::app {

class SessionModel;

/// In the place of a channel.
constexpr int kBothChannels = -1, kMeanOfChannels = -2;

/// A file to bring in, and where it goes.
struct ImportRow {
    QString file;
    QString song, part, layer, guitar, pickup;
    double place = 0.0;
    int channel = 0; ///< from 1; 0: the only one; see the two below
    core::LayerRole role = core::LayerRole::Di;
    std::string source;        ///< of the role's
    bool landsByStamp = false; ///< or name, else at bar 1
    bool takesShort = false;   ///< of a file that is shorter than its header says, what is there
};

/// Brings files into the open session on a worker; the layers appear when all are there, or none where one is bad.
class Importer {
public:
    explicit Importer(SessionModel& session) : session_(session) {}
    void bringIn(const std::vector<ImportRow>& rows);
    TaskRunner& task() { return task_; }

private:
    SessionModel& session_;
    TaskRunner task_;
};

} // namespace gristle::app
