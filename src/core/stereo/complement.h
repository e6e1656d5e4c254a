#pragma once

#include <array>
#include <span>
#include <vector>

namespace gristle::core {

/// How one side sounds, by what is behind its notes; medians over them.
struct SideSound {
    double definitionDb =
        0.0;                 ///< 1 to 5 kHz: power of the first 30 ms over that from 60 to 160 ms; how the pick speaks
    double weightDb = 0.0;   ///< power from 80 to 300 Hz against all, of 160 ms
    double looseLowDb = 0.0; ///< 80 to 250 Hz: power from 110 to 160 ms over the first 60; lower is tighter
    double crestDb = 0.0;    ///< peak over RMS of 100 ms from 40 ms on; lower is dirtier
    std::array<double, 21> thirdsDb{}; ///< levels of thirds of an octave from 80 Hz to 8 kHz, their mean taken off
};
/// @param onsetS  of its notes; those with another within 160 ms are left out, unless all are
SideSound soundOfSide(std::span<const float> mono, const std::vector<double>& onsetS, double rateHz);

/// What two sides are to each other.
struct Complement {
    SideSound first, second, sum;                        ///< sum: of both as they are placed, to mono
    double spectrumApartDb = 0.0;                        ///< RMS of the difference of their thirds
    double definitionApartDb = 0.0, weightApartDb = 0.0; ///< second less first
    double attackKeptDb = 0.0; ///< definition of the sum less the mean of both: below 0, the attacks blur each other
};
/// @param gains  of each in the sum
Complement complementOf(std::span<const float> first, std::span<const float> second,
                        const std::vector<double>& onsetFirstS, const std::vector<double>& onsetSecondS, double rateHz);

} // namespace gristle::core
