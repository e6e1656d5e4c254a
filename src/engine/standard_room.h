#pragma once

#include "engine/simulated_room.h"

#include <memory>

namespace gristle::engine {

/// The room that the simulated interface of the list stands in: a riff of two bars over and over, hum, a preamp at 0
/// dB, and a cable from the output to input 2.
std::shared_ptr<SimulatedRoom> standardRoom(double rateHz);

/// What its player gives, in volts.
std::vector<float> standardPerformance(double rateHz);

} // namespace gristle::engine
