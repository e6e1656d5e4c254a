#pragma once

#include <condition_variable>
#include <cstddef>
#include <mutex>
#include <optional>
#include <utility>
#include <vector>

namespace gristle::core {

/// Hands out a block's work to threads: every stage takes it in steps of its own, in order, each step once the stage
/// before is through with all frames up to its end. Any number of threads take and finish until take() gives nothing.
class StageScheduler {
public:
    struct Stage {
        std::vector<std::size_t> ends; ///< frames at which the steps end, rising
        bool isConcurrent = false;     ///< steps may be on their way beside each other
    };
    struct Task {
        std::size_t stage, step;
    };
    explicit StageScheduler(std::vector<Stage> stages)
    {
        for (Stage& stage : stages) {
            Progress& added = stages_.emplace_back();
            added.isDone.resize(stage.ends.size());
            added.of = std::move(stage);
        }
    }

    /// Waits until there is something to do; nothing where nothing is left.
    std::optional<Task> take()
    {
        std::unique_lock lock(mutex_);
        while (true) {
            bool isLeft = false;
            // The last stage first: what it takes has just been worked on.
            for (std::size_t s = stages_.size(); s-- > 0;) {
                Progress& stage = stages_[s];
                if (stage.taken == stage.of.ends.size()) continue;
                isLeft = true;
                const bool isFree = stage.of.isConcurrent || stage.taken == stage.done;
                if (isFree && (s == 0 || stages_[s - 1].reach() >= stage.of.ends[stage.taken]))
                    return Task{s, stage.taken++};
            }
            if (!isLeft) return std::nullopt;
            changed_.wait(lock);
        }
    }
    void finish(const Task& task)
    {
        {
            const std::lock_guard lock(mutex_);
            Progress& stage = stages_[task.stage];
            stage.isDone[task.step] = true;
            while (stage.done < stage.isDone.size() && stage.isDone[stage.done]) ++stage.done;
        }
        changed_.notify_all();
    }

private:
    struct Progress {
        Stage of;
        std::vector<bool> isDone;
        std::size_t taken = 0, done = 0; ///< steps; done: and all before
        std::size_t reach() const { return done > 0 ? of.ends[done - 1] : 0; }
    };
    std::vector<Progress> stages_;
    std::mutex mutex_;
    std::condition_variable changed_;
};

} // namespace gristle::core
