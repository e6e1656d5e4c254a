#pragma once

#include "core/impulse/sweep.h"

#include <string>

namespace gristle::core {

/// Several microphones that heard the same sweep: their responses begin at one moment, 1 ms before the first arrival,
/// so that they keep what lies between them.
struct CapturedSet {
    std::vector<Result<Captured>> each; ///< a microphone that failed says why; the others are kept
    double firstArrivalSamples = 0.0;
    bool isAnyGood() const noexcept;
    Recording mix() const; ///< the plain sum of those that are good
};

/// @param recordings  of equal length, one a microphone @error Usage as capture(); a microphone's own stand in `each`
Result<CapturedSet> captureSet(std::span<const float> sweep, const std::vector<std::vector<float>>& recordings,
                               int rateHz, const CaptureOptions& options);

} // namespace gristle::core
