#pragma once

#include <condition_variable>
#include <cstddef>
#include <mutex>
#include <optional>
#include <vector>

namespace gristle::core {

/// Hands out slices to stages: every stage takes the slices in order, one at a time, each after the stage before. Any
/// number of threads take and finish until take() gives nothing.
class Conveyor {
public:
    struct Task {
        std::size_t stage, slice;
    };
    Conveyor(std::size_t stages, std::size_t slices) : slices_(slices), stages_(stages) {}

    /// Waits until there is something to do; nothing where nothing is left.
    std::optional<Task> take()
    {
        std::unique_lock lock(mutex_);
        while (true) {
            if (stages_.back().done == slices_) return std::nullopt;
            bool isLeft = false;
            // The last stage first: what it takes has just been worked on.
            for (std::size_t s = stages_.size(); s-- > 0;) {
                Stage& stage = stages_[s];
                const std::size_t upTo = s == 0 ? slices_ : stages_[s - 1].done;
                isLeft = isLeft || stage.taken < slices_;
                if (stage.taken == stage.done && stage.taken < upTo) return Task{s, stage.taken++};
            }
            if (!isLeft) return std::nullopt;
            changed_.wait(lock);
        }
    }
    void finish(const Task& task)
    {
        {
            const std::lock_guard lock(mutex_);
            ++stages_[task.stage].done;
        }
        changed_.notify_all();
    }

private:
    struct Stage {
        std::size_t taken = 0, done = 0; ///< slices
    };
    std::size_t slices_;
    std::vector<Stage> stages_;
    std::mutex mutex_;
    std::condition_variable changed_;
};

} // namespace gristle::core
