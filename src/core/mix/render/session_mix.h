#pragma once

#include "core/mix/render/mixdown.h"
#include "core/session/session_folder.h"

namespace gristle::core {

/// The recipe that renders a layer's chosen take through its rig, as everybody (window, command line) renders it.
/// @error FileMissing where the layer has no take; as SessionFolder::loadRig
Result<LayerRecipe> layerRecipe(const SessionFolder& session, const Layer& layer, bool allowMissing,
                                std::vector<std::string>& warnings);

/// Same, through a rig that is not saved yet. @param layer  that has a take
LayerRecipe layerRecipe(const SessionFolder& session, const Layer& layer, const RigDocument& rig);
/// One take as it is, at its place in the song.
LayerRecipe layerRecipe(const SessionFolder& session, const Take& take, const RigDocument& rig);

/// How a session sums.
MixOptions mixOptions(const SessionDocument& document);

} // namespace gristle::core
