#pragma once

#include "core/mix/render/layer_source.h"
#include "core/units/progress.h"

#include <span>

namespace gristle::core {

/// What goes into one stage of a recipe's outermost chain over its stretch, with a pre-roll before; and the means to
/// play other chains from there on.
struct StageInput {
    CompileOptions options;  ///< for play()
    std::size_t preroll = 0; ///< frames before the stretch
    std::vector<float> di;   ///< volts
    AudioBuffer before;      ///< volts at the stage's input, in time with the DI
    double fullScaleV = 1.0; ///< of the recipe's output
};

/// @error as LayerSource; Cancelled
Result<StageInput> stageInput(const LayerRecipe& recipe, std::size_t stage, const Progress& progress);

/// A chain on a buffer in volts, as long as it came and in time with it. @param di  as long, for nodes that listen to
/// it
/// @error as CompiledRig; Cancelled
Result<AudioBuffer> playChain(const RigChain& chain, CompileOptions options, const AudioBuffer& in,
                              std::span<const float> di, const Progress& progress);

/// The gain by which the lanes of a split of the outermost chain, added up, are as loud as `alone` would be in their
/// place.
/// @error as stageInput; Cancelled
Result<double> joinGainDb(const LayerRecipe& recipe, std::size_t split, const RigChain& alone,
                          const Progress& progress);

/// Without the pre-roll.
AudioBuffer heard(const StageInput& input, const AudioBuffer& played);

} // namespace gristle::core
