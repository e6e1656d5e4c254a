#pragma once

#include "engine/simulated/simulated_room.h"

#include <memory>
#include <string>

namespace gristle::engine {

inline constexpr std::size_t kStandardInputs = 8;

/// What the player of the simulated interface is asked for.
struct Playing {
    std::string part = "riff"; ///< its name says what, see core::partFor()
    int bars = 2;
    double tempoBpm = 104.0;
    double quartersPerBar = 4.0;
    std::string tuning = "E standard";
    double restBeforeS = 1.5, restAfterS = 1.2;
    std::uint32_t seed = 1;
    int lateBar = 0;      ///< that he drags in, from 1; 0: in none
    double lateMs = 22.0; ///< by so much
};

/// What the magnet of his guitar gives, in volts.
std::vector<float> simulatedPerformance(const Playing& what, double rateHz);

/// The room that the simulated interface of the list stands in: the player with a guitar at full volume and tone, a
/// cable and a high-impedance input; hum, a preamp at 0 dB, a cable from the output to input 2, and six more inputs
/// with nothing in them.
std::shared_ptr<SimulatedRoom> standardRoom(double rateHz);

} // namespace gristle::engine
