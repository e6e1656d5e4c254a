#pragma once

#include "core/impulse/sweep.h"

namespace gristle::core {

/// By how much the recording's clock runs faster than that of what was played.
struct Pace {
    double ppm = 0.0;
    double doubtPpm = 0.0;
};

/// Of one sweep: what the response of the sweep has been turned by over the frequencies against what its magnitudes
/// alone would turn it by (minimum phase), as a delay that grows with the time at which the sweep passes a frequency.
/// @param mostPpm  searched to both sides. What is no direct sound (a far room microphone) widens the doubt.
/// @param response  deconvolved, the linear part alone, at least 64 samples before it and no order of distortion
Pace paceOf(std::span<const float> response, const SweepSettings& settings, double mostPpm);

/// Of sweeps that were played one after the other: how their answers move apart.
/// @param starts  of each in the recording where both clocks agree; at least two
Pace paceOfRepeats(std::span<const float> recording, std::size_t length, std::span<const std::size_t> starts,
                   int rateHz);

/// The recording as the other clock would have had it. Flat to 0.91 of half the rate.
std::vector<float> atPace(std::span<const float> recording, double ppm);

} // namespace gristle::core
