#pragma once

#include "core/mix/render/render.h"

#include <optional>

namespace gristle::core {

/// Level at one point of a rig: what comes in, or what comes out of a stage.
struct Rung {
    std::string name; ///< "input" or the node
    bool bypass = false;
    double playingDbu = -200.0;    ///< RMS while playing
    double peakDbu = -200.0;       ///< peak, as the dBu of a sine with that peak
    std::optional<double> restDbu; ///< RMS while nobody plays
    std::vector<double> lanesDbu;  ///< of a split: RMS at the end of each lane while playing
};

/// Level through the outermost chain of a rig, stage by stage. Measured by rendering, so nonlinear stages count as they
/// are hit. The lanes of a split are played once more for their levels. @param recipe  its startS..endS is the stretch
/// that is played
/// @param restFromS, restToS  a stretch in which nobody plays; none where they are equal
/// @param report  takes what the render of the playing told
/// @error as LayerSource; Cancelled
Result<std::vector<Rung>> rigLedger(const LayerRecipe& recipe, double restFromS, double restToS, RenderReport& report,
                                    const Progress& progress = {});

} // namespace gristle::core
