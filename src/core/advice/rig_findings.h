#pragma once

#include "core/advice/finding.h"
#include "core/mix/render.h"

namespace gristle::core {

/// What a render tells: rig.missing, rig.clipped, rig.silent_stage, rig.runaway (feedback had to be held),
/// rig.level_moved (the DI hits the rig otherwise than
/// the one that it was dialled in on), rig.pickup_differs (its colour is another).
/// @param di  of the take, where it is known
std::vector<Finding> rigFindings(const RenderReport& report, const RigDocument& rig, const std::optional<DiStamp>& di,
                                 const std::string& subject);

} // namespace gristle::core
