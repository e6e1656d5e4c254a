#pragma once

#include "app/tasks/task_runner.h"
#include "core/session/recorded_take.h"

#include <deque>

namespace gristle::app {

class SessionModel;

/// Makes takes of recordings, on a worker, and notes them in the session; what could not be noted stays on disk and is
/// tried again. SessionModel::takesKept tells of each. GUI thread.
class TakeKeeper : public QObject {
    Q_OBJECT
public:
    explicit TakeKeeper(SessionModel& session) : session_(session) {}

    /// Makes takes of a recording that beginRecording() began, and adds them to their layers.
    void keep(const std::filesystem::path& recording, std::vector<std::int64_t> gaps = {});
    /// Makes takes of stretches of it instead, each a file of its own. @param isOver  the recording ended: then it goes
    void keepStretches(const std::filesystem::path& recording, std::vector<std::int64_t> gaps,
                       std::vector<core::TakeCut> cuts, bool isOver);
    TaskRunner& task() { return task_; }

    void recover(const std::vector<std::filesystem::path>& recordings); ///< left by a program that ended in the middle
    void tryAgain(); ///< what could not be noted, as something else could be by now
    void finish();   ///< all of it, now: the session closes

private:
    struct Recorded {
        std::filesystem::path file;
        std::vector<std::int64_t> gaps{};
        bool recovered = false;
        bool isCut = false; ///< into these, not whole
        std::vector<core::TakeCut> cuts{};
        bool isOver = true;
        core::BrokenHeader ifBroken = core::BrokenHeader::Tell;
    };
    static core::Result<std::vector<core::RecordedTake>>
    takesOf(const std::filesystem::path& folder, const Recorded& recorded, const core::Progress& progress);
    void next();
    void note(const Recorded& recorded, const core::Result<std::vector<core::RecordedTake>>& kept);
    void tellTrouble(const Recorded& recorded, const core::Error& error);
    void letGoOf(const Recorded& recorded);
    void salvage(const Recorded& recorded);

    SessionModel& session_;
    TaskRunner task_;
    std::deque<Recorded> toKeep_; ///< the first one is in the worker's hands
    std::deque<Recorded> unkept_; ///< whose takes could not be noted
};

} // namespace gristle::app
