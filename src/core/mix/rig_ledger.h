#pragma once

#include "core/mix/render.h"

#include <optional>

namespace gristle::core {

/// Level at one point of a rig: what comes in, or what comes out of a stage.
struct Rung {
    std::string name; ///< "input" or the node
    bool bypass = false;
    double playingDbu = -200.0;    ///< RMS while playing
    double peakDbu = -200.0;       ///< peak, as the dBu of a sine with that peak
    std::optional<double> restDbu; ///< RMS while nobody plays
};

/// Level through the outermost chain of a rig, stage by stage. Measured by rendering, so nonlinear stages count as they
/// are hit. @param recipe  its startS..endS is the stretch that is played
/// @param restFromS, restToS  a stretch in which nobody plays; none where they are equal
/// @error as LayerSource; Cancelled
Result<std::vector<Rung>> rigLedger(const LayerRecipe& recipe, double restFromS, double restToS,
                                    const Progress& progress = {});

/// How the sound changes along a control.
struct TravelPoint {
    double value = 0.0;
    double loudnessLu = 0.0;   ///< integrated loudness less that of the present setting
    double brightnessDb = 0.0; ///< power above 2 kHz over the whole, less that of the present setting
    double bodyDb = 0.0;       ///< power from 100 to 400 Hz over the whole, less that of the present setting
};

/// Renders the stretch of the recipe at `points` settings of one control of one stage of the outermost chain.
/// Cost: points + 1 renders of the stretch.
Result<std::vector<TravelPoint>> controlTravel(const LayerRecipe& recipe, std::size_t stage, const std::string& key,
                                               std::size_t points, const Progress& progress = {});

} // namespace gristle::core
