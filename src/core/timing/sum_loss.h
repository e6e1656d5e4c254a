#pragma once

#include "core/timing/alignment.h"

namespace gristle::core {

/// What signals lose where they meet. Loss is the power that all have apart over the power of their sum, dB: alike
/// -3.01 for two, unrelated 0, cancelled large.
struct SumLoss {
    std::vector<Alignment> pairs; ///< each but the first against it
    double lossDb = 0.0;          ///< all together, as they are
    double sumPower = 0.0;        ///< mean square of the sum
    std::size_t best = 1;         ///< the signal that frees most when it alone is moved
    double bestOffsetMs = 0.0;    ///< by this: later above 0
    double bestLossDb = 0.0;      ///< of all together then
};

/// How the sum of two changes as the second is moved against the first, for one offset after the other.
/// @param offsetsMs  later above 0; within a quarter of the longer of 0.6 s and 8 times the largest
/// @return the loss at each, dB
std::vector<double> lossOverOffsets(std::span<const float> first, std::span<const float> second, double rateHz,
                                    const std::vector<double>& offsetsMs);

/// @param sounds  two at least, at one rate; they begin together @param maxMs  that one is looked for to be off by
/// @error as alignTo(); Usage for fewer than two
/// Cost: grows with the length, and with the number of signals.
Result<SumLoss> sumLoss(const std::vector<std::span<const float>>& sounds, double rateHz, double maxMs = 50.0);

} // namespace gristle::core
