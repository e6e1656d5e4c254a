#pragma once

#include "core/mix/render/render.h"

#include <condition_variable>
#include <list>
#include <map>
#include <memory>
#include <mutex>

namespace gristle::core {

/// A layer as it was rendered, with what was told on the way.
struct Rendered {
    Recording sound;
    RenderReport report;
};
using RenderedPtr = std::shared_ptr<const Rendered>;

/// What was rendered, by content (soundKey), for all who want to hear or measure it: a change renders what it touched.
/// Bounded: what was not asked for the longest goes first, and what would take more than half of it is not kept. Any
/// thread; who asks for what another thread renders just now waits for that.
class RenderCache {
public:
    static constexpr std::size_t kUsualBytes = std::size_t(512) << 20; ///< 46 minutes of one channel at 48 kHz
    explicit RenderCache(std::size_t limitBytes = kUsualBytes) : limit_(limitBytes) {}

    /// @error as renderToMemory()
    Result<RenderedPtr> layer(const LayerRecipe& recipe, const Progress& progress = {});
    /// Whether a layer of so many frames would be kept.
    bool holds(std::int64_t frames, std::size_t channels) const noexcept;
    void clear();

    struct Figures {
        std::size_t bytes = 0, limitBytes = 0, layers = 0;
        std::int64_t found = 0, rendered = 0; ///< asked for and there; and not
    };
    Figures figures() const;

private:
    struct Entry {
        std::string key;
        RenderedPtr rendered; ///< none while somebody renders it
    };
    void settle(const std::string& key, const RenderedPtr& made);
    void drop(std::list<Entry>::iterator entry);

    const std::size_t limit_;
    mutable std::mutex mutex_;
    std::condition_variable_any arrived_;
    std::list<Entry> entries_; ///< the one asked for last in front
    std::map<std::string, std::list<Entry>::iterator> byKey_;
    std::size_t bytes_ = 0;
    std::int64_t found_ = 0, rendered_ = 0;
};

} // namespace gristle::core
