#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace gristle::core {

struct LoopLatency {
    double delaySamples = 0.0; ///< from the ping's first sample to its arrival, fractional
    double snrDb = 0.0;        ///< of the ping over what else was recorded in its time
};

/// A burst of noise in 100 Hz to 0.42 of the rate, peak at `peak`, faded in and out: 0.25 s, the same for every rate
/// and call.
std::vector<float> latencyPing(double rateHz, double peak);

/// Where a ping arrives in a recording that began with the ping's first sample: peak of the cross-correlation, then the
/// delay that maximises it between the samples, evaluated in the frequency domain (for white noise the
/// maximum-likelihood estimate; Carter 1981).
/// @return nothing where no ping is found (SNR below 3 dB)
std::optional<LoopLatency> findPing(std::span<const float> recording, std::span<const float> ping);

} // namespace gristle::core
