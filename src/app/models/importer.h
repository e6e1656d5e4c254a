#pragma once

#include "app/tasks/task_runner.h"

#include <QString>
#include <vector>

namespace gristle::app {

class SessionModel;

/// A file to bring in, and where it goes.
struct ImportRow {
    QString file;
    QString song, part, layer, guitar, pickup;
    double place = 0.0;
    int channel = 0;
    bool takesShort = false; ///< of a file that is shorter than its header says, what is there
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
