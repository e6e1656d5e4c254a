#pragma once

#include "core/units/progress.h"
#include "core/units/result.h"

#include <span>
#include <vector>

namespace gristle::core {

/// A delay between two sides that play one performance, and what mono loses by it.
struct CopyDelay {
    double ms = 0.0;
    double lossDb = 0.0; ///< 10 lg((P_L + P_R) / P_(L+R)) as `stereo` measures it: alike -3.01, unrelated 0
};

/// What mono loses for each delay, from the power spectrum of the performance: the two sides sum to
/// |1 + g exp(-i 2 pi f t)|^2 of it, 1 + g^2 apart. @param gain  of the second side against the first
/// @param sound  mono, the performance through its rig, at least half a second
/// @return       every 0.1 ms from `fromMs` to `toMs`
/// @error OutOfRange where it is silent or too short
Result<std::vector<CopyDelay>> copyDelays(std::span<const float> sound, double rateHz, double gain, double fromMs,
                                          double toMs);

} // namespace gristle::core
