#pragma once

#include "core/advice/finding.h"
#include "core/mix/render/mixdown.h"

namespace gristle::core {

/// Do layers of one performance work against each other where they meet, after their rigs? Each pair by
/// meetingFindings(), the first 30 s of the part; only notes where the two stand on different sides, since then it is
/// mono that loses. One take twice through the same rig is left to predictCopies(). At most six layers.
/// @error as RenderCache::layer(); Cancelled
Result<std::vector<Finding>> meetLayers(const std::vector<MixLayer>& layers, const MixOptions& options,
                                        const Progress& progress, RenderCache& cache);

} // namespace gristle::core
