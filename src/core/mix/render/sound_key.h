#pragma once

#include "core/mix/render/mixdown.h"

namespace gristle::core {

/// What decides how a layer sounds, as a ContentKey: its files (those of a session are never changed), rig, stretch,
/// rate and effort. Names and versions do not count. Two recipes of one key render to the same samples. Cost: a look
/// at every file that it names.
std::string soundKey(const LayerRecipe& recipe);
/// The same of a sum.
std::string soundKey(const std::vector<MixLayer>& layers, const MixOptions& options);

} // namespace gristle::core
