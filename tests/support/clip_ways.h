#pragma once

#include "core/measure/held_peaks.h"

#include <functional>
#include <string>
#include <vector>

namespace gristle::test {

/// What a clipped take may go through before anyone sees it.
struct ClipWay {
    std::string name;
    bool isSoft = false;
    /// @param x  peak at 1; @param dB  the ceiling under it
    std::function<std::vector<float>(const std::vector<float>& x, double dB, int rateHz)> clip;
};

/// Clippers behind dither at -96 dBFS, high-passes, a low-pass, a resampler there and back; a soft knee, a tanh.
std::vector<ClipWay> clipWays();

/// The same without a clipper.
std::vector<ClipWay> cleanWays();

/// What the loudest stretches of a recording say.
core::HeldPeaks heldPeaksOf(const std::vector<float>& x, int rateHz);

} // namespace gristle::test
