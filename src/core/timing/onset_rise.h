#pragma once

#include <span>
#include <vector>

namespace gristle::core {

/// How the levels of narrow bands rise over the strongest of their neighbours some frames before, at each frame of
/// about 4 ms: a bend moves within them, a new note does not. Means over the bands, in units of log10 of power.
/// Source: Boeck and Widmer 2013, Maximum filter vibrato suppression for onset detection.
struct OnsetRise {
    double hopS = 0.0;            ///< exactly, a whole number of samples
    std::vector<float> short12;   ///< windows of 21 ms, ten bands an octave, over what was 12 ms before
    std::vector<float> short24;   ///< over what was 24 ms before
    std::vector<float> short40;   ///< over what was 40 ms before
    std::vector<float> long32;    ///< windows of 64 ms each 8 ms, 24 bands an octave, over what was 32 ms before
    std::vector<float> longShare; ///< of those bands, how many rise by 4 dB and more
    double loudest = 0.0;         ///< mean square of the loudest 20 ms
    std::size_t frames() const { return short12.size(); }
};

/// @param x  at 2 kHz or more. Cost: grows with the length, 20 bytes a frame are kept
OnsetRise onsetRise(std::span<const float> x, double rateHz);

} // namespace gristle::core
