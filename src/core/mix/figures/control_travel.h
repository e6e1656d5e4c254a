#pragma once

#include "core/mix/figures/stage_run.h"

#include <functional>
#include <optional>

namespace gristle::core {

/// The sound with a control at one place, against the present one; dB, loudness in LU.
struct TravelPoint {
    double value = 0.0;
    double loudness = 0.0;   ///< integrated, of the rig's output
    double brightness = 0.0; ///< power above 2 kHz over the whole
    double body = 0.0;       ///< power from 100 to 400 Hz over the whole
    double harmonics = 0.0;  ///< what the stage adds that no filter makes of its input (newSoundDb), from -60 dB up
    double crest = 0.0;      ///< highest sample over the RMS
};

/// Measures a stretch of a take with one control of one stage of the outermost chain at `points` places of its travel,
/// both ends first, then between, each time in the middle. What comes before the stage is played once. Works on all
/// cores. Cost: points + 1 times the chain from the stage on.
/// @param found  takes each point, from any thread, one after the other; may be empty
/// @return the points in the order of their values
/// @error Usage; as LayerSource; Cancelled
Result<std::vector<TravelPoint>> controlTravel(const LayerRecipe& recipe, std::size_t stage, const std::string& key,
                                               std::size_t points, const Progress& progress = {},
                                               const std::function<void(const TravelPoint&)>& found = {});

/// Where a control stops working: the longest stretch over which a measure moves by less than a tenth of its whole
/// travel. None where the whole is under half a decibel, or the stretch under an eighth of the places.
struct IdleStretch {
    double from = 0.0, to = 0.0;
    double wholeDb = 0.0; ///< between the least and the most that the measure reaches
};
std::optional<IdleStretch> idleStretch(const std::vector<TravelPoint>& points, double TravelPoint::*measure);

/// Between the least and the most that a measure reaches.
double wholeOf(const std::vector<TravelPoint>& points, double TravelPoint::*measure);

/// Places worth hearing at matched loudness: as far apart by ear as they can be. The way along the travel, by
/// brightness, body, harmonics and crest together, is cut into as many equal parts, and each place is the middle of
/// one. Where none of them moves, the parts are those of the travel itself. What lies 12 LU under the loudest is left
/// out. Empty for fewer than two points.
std::vector<double> placesToHear(const std::vector<TravelPoint>& travel, std::size_t places);

} // namespace gristle::core
