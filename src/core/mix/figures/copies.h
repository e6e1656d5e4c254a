#pragma once

#include "core/mix/render/mixdown.h"
#include "core/stereo/comb.h"

namespace gristle::core {

/// One performance that a mix holds more than once: the same take through the same rig.
struct CopiedPerformance {
    std::vector<std::size_t> layers;
    double monoLossDb = 0.0; ///< of these layers by themselves, from the recipe and the spectrum of one of them
    std::vector<CombNotch> notches;
};

/// The same take through the same rig, wherever it is moved.
bool isSamePerformance(const LayerRecipe& a, const LayerRecipe& b);

/// From the recipe, not from the mix. Only of rigs that give one channel. Cost: each such performance is rendered once,
/// 60 s of it at most. @error as mixDown()
Result<std::vector<CopiedPerformance>> predictCopies(const std::vector<MixLayer>& layers, const MixOptions& options,
                                                     const Progress& progress = {}, RenderCache* cache = nullptr);

} // namespace gristle::core
