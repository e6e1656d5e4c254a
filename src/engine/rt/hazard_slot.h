#pragma once

#include <algorithm>
#include <array>
#include <atomic>
#include <memory>
#include <vector>

namespace gristle::engine {

/// Something of which a control thread sets new versions while an audio thread uses one, or one for each of its holds:
/// the audio thread announces what it takes up, the control thread lets go of what is neither wanted nor announced
/// (a hazard pointer; source: Michael 2004). The audio thread allocates, frees and waits for nothing. What is held
/// stays in its hold until it is released: never moved to another one, where a look at one after the other could miss
/// it.
template<typename T, std::size_t Holds = 1, template<typename> class Atomic = std::atomic> class HazardSlot {
public:
    // control thread
    void set(std::shared_ptr<T> value) ///< null: nothing is wanted
    {
        T* const raw = value.get();
        if (value) alive_.push_back(std::move(value));
        wanted_.store(raw);
        collect();
    }
    /// Lets go of what neither thread can touch any more. Called by set().
    void collect()
    {
        // Wanted first: the audio thread announces what it takes before it looks at what is wanted again.
        std::array<const T*, Holds + 1> keep;
        keep[0] = wanted_.load();
        for (std::size_t i = 0; i < Holds; ++i) keep[i + 1] = held_[i].load();
        std::erase_if(alive_, [&](const auto& v) { return std::ranges::find(keep, v.get()) == keep.end(); });
    }
    /// What was set and may still be in use, the newest last.
    const std::vector<std::shared_ptr<T>>& alive() const noexcept { return alive_; }

    // audio thread
    T* wanted() const noexcept { return wanted_.load(); }
    /// Takes up what was wanted just now, in the place of what this hold has. @return false where something else is
    /// wanted by now: then the hold has nothing, and one looks again with the next block
    bool take(std::size_t hold, T* value) noexcept
    {
        held_[hold].store(value);
        if (wanted_.load() == value) return true;
        held_[hold].store(nullptr);
        return false;
    }
    void release(std::size_t hold) noexcept { held_[hold].store(nullptr); }
    T* held(std::size_t hold) const noexcept { return held_[hold].load(); }
    /// Nothing is wanted any more, where that is still this.
    void drop(T* value) noexcept { wanted_.compare_exchange_strong(value, nullptr); }

private:
    std::vector<std::shared_ptr<T>> alive_;
    Atomic<T*> wanted_{nullptr};
    Atomic<T*> held_[Holds] = {};
};

static_assert(std::atomic<void*>::is_always_lock_free);

} // namespace gristle::engine
