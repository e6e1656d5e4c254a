#pragma once

#include <complex>
#include <span>
#include <vector>

namespace gristle::core {

/// One of the times that a performance is heard: on each side so much, so much later, perhaps inverted.
struct HeardCopy {
    double left = 0.0, right = 0.0; ///< gains
    double laterS = 0.0;
    bool isInverted = false;
};

/// What mono loses of it, 10 lg((P_L + P_R) / P_(L+R)), from its power spectrum. Alike -3.01 dB.
/// @param power  of the performance at k binHz, from 0 Hz on @return a large number where nothing is left
double predictedMonoLossDb(std::span<const double> power, double binHz, std::span<const HeardCopy> copies);

/// A dip of the mono sum against the same copies unrelated.
struct CombNotch {
    double hz, depthDb;
};
/// Dips over 3 dB from 30 Hz to `mostHz`, the lowest first, 32 at most. For two copies t apart they lie at odd halves
/// of 1 / t, inverted at whole ones.
std::vector<CombNotch> predictedNotches(std::span<const HeardCopy> copies, double mostHz);

} // namespace gristle::core
