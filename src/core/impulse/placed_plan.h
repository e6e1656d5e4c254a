#pragma once

#include "core/impulse/impulse_difference.h"
#include "core/impulse/placement.h"

#include <optional>

namespace gristle::core {

/// As findings, lists and curves call it: "Ribbon, 30 cm".
std::string nameOf(const PlacedMicrophone& m);

/// What reaches one microphone of a plan. An estimate.
struct PlacedFigures {
    double travelS = 0.0;         ///< the sound's shortest way
    double soundPressureDb = 0.0; ///< dB SPL at the plan's watts
    double mostSplDb = 0.0;       ///< what it takes
    std::optional<Spill> spill;   ///< where the plan has a second amplifier
    /// Its response without gain, polarity and delay, a twelfth of an octave apart, 60 Hz to 14 kHz, against its own
    /// mean power from 200 Hz to 2 kHz.
    std::vector<ResponsePoint> response;
};

struct PlanFigures {
    std::vector<PlacedFigures> microphones; ///< in the plan's order
    std::vector<ResponsePoint> sum;         ///< of all together, gains, polarity and delays in it, levelled alike
};
/// @error as settingOf() and checkPlaced(); Cancelled
Result<PlanFigures> figuresOf(const CabPlan& plan, const Progress& progress = {});

/// How the microphones of a plan share channels.
enum class PlanChannels { Sum, FirstLeft, Each }; ///< FirstLeft: the others right

/// The plan as one impulse. @error as placementImpulse()
Result<Recording> impulseOf(const CabPlan& plan, PlanChannels channels, int rateHz, double lengthS,
                            const Progress& progress = {});

} // namespace gristle::core
