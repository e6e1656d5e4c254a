#include "core/mix/render/render_cache.h"

#include "core/mix/render/sound_key.h"

namespace gristle::core {

namespace {

std::size_t bytesOf(const Rendered& r) { return r.sound.audio.channels() * r.sound.audio.frames() * sizeof(float); }

} // namespace

bool RenderCache::holds(std::int64_t frames, std::size_t channels) const noexcept
{
    return std::size_t(std::max<std::int64_t>(0, frames)) <= limit_ / (2 * sizeof(float) * channels);
}

void RenderCache::drop(std::list<Entry>::iterator entry)
{
    if (entry->rendered) bytes_ -= bytesOf(*entry->rendered);
    byKey_.erase(entry->key);
    entries_.erase(entry);
}

Result<RenderedPtr> RenderCache::layer(const LayerRecipe& recipe, const Progress& progress)
{
    const std::string key = soundKey(recipe);
    {
        std::unique_lock lock(mutex_);
        for (;;) {
            const auto at = byKey_.find(key);
            if (at == byKey_.end()) break;
            if (at->second->rendered) {
                ++found_;
                entries_.splice(entries_.begin(), entries_, at->second);
                return at->second->rendered;
            }
            const auto isSettled = [&] {
                const auto now = byKey_.find(key);
                return now == byKey_.end() || now->second->rendered;
            };
            if (!arrived_.wait(lock, progress.stop, isSettled))
                return Error{ErrorCode::Cancelled, "rendering: stopped", ""};
        }
        ++rendered_;
        entries_.push_front({key, nullptr});
        byKey_[key] = entries_.begin();
    }
    auto made = std::make_shared<Rendered>();
    const auto outcome = [&]() -> Outcome { // whatever becomes of it, nobody is left waiting
        struct Told {
            RenderCache& cache;
            const std::string& key;
            ~Told() { cache.settle(key, rendered); }
            RenderedPtr rendered{};
        } told{*this, key};
        auto sound = renderToMemory(recipe, made->report, progress);
        if (!sound) return sound.error();
        made->sound = std::move(*sound);
        told.rendered = made;
        return Done{};
    }();
    if (!outcome) return outcome.error();
    return RenderedPtr(made);
}

/// What somebody rendered, or tried to, takes its place, if that is still wanted.
void RenderCache::settle(const std::string& key, const RenderedPtr& made)
{
    const std::lock_guard lock(mutex_);
    arrived_.notify_all();
    const auto own = byKey_.find(key);
    if (own == byKey_.end() || own->second->rendered) return; // emptied meanwhile, and perhaps rendered anew
    if (!made || !holds(made->report.frames, made->report.channels)) return drop(own->second);
    own->second->rendered = made;
    bytes_ += bytesOf(*made);
    for (auto last = std::prev(entries_.end()); bytes_ > limit_ && last != entries_.begin();) {
        const auto before = std::prev(last);
        if (last->rendered && last->rendered != made) drop(last);
        last = before;
    }
}

void RenderCache::clear()
{
    const std::lock_guard lock(mutex_);
    entries_.clear();
    byKey_.clear();
    bytes_ = 0;
    arrived_.notify_all();
}

RenderCache::Figures RenderCache::figures() const
{
    const std::lock_guard lock(mutex_);
    return {bytes_, limit_, entries_.size(), found_, rendered_};
}

} // namespace gristle::core
