#pragma once

#include <cstddef>
#include <functional>
#include <vector>

namespace gristle::core {

/// A minimum-phase FIR with the magnitude that `gainAt(hz)` gives, by the real cepstrum; the last eighth fades out.
/// Source: Oppenheim and Schafer, Discrete-Time Signal Processing, ch. 12. @param gainAt  amplitude, asked from 1 Hz to
/// half the rate; held to -180 dB at least
std::vector<float> minimumPhase(const std::function<double(double hz)>& gainAt, double rateHz, std::size_t taps);

} // namespace gristle::core
