#pragma once

#include "core/mix/render/mixdown.h"
#include "core/mix/render/render_cache.h"

namespace gristle::core {

/// Something to be heard: one layer as its rig leaves it, or layers at their places, summed. A value.
struct Sound {
    std::vector<MixLayer> layers;
    std::optional<MixOptions> mix; ///< how they are summed; none: the only layer, by itself
    bool operator==(const Sound&) const = default;
};

/// A stretch of it, in seconds; layers that the cache has are not rendered again. @error as LayerSource; Cancelled
Result<std::shared_ptr<const Recording>> renderSound(const Sound& sound, double fromS, double toS, RenderCache& cache,
                                                     const Progress& progress = {});

} // namespace gristle::core
