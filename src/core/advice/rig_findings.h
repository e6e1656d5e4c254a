#pragma once

#include "core/advice/finding.h"
#include "core/mix/render.h"

namespace gristle::core {

/// What a render tells: rig.missing, rig.clipped, rig.silent_stage, rig.level_moved (the DI stands elsewhere than when
/// the rig was dialled in).
/// @param diAverageDbfs  of the take, where it is known
std::vector<Finding> rigFindings(const RenderReport& report, const RigDocument& rig,
                                 std::optional<double> diAverageDbfs, const std::string& subject);

} // namespace gristle::core
