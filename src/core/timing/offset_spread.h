#pragma once

#include <span>

namespace gristle::core {

/// An offset and its standard error.
struct DoubtedOffset {
    double ms = 0.0, doubtMs = 0.0;
};

struct OffsetSpread {
    double meanMs = 0.0; ///< each counts by its doubt
    double sdMs = 0.0;   ///< of the hands: what the offsets differ by beyond their own doubts
};

/// Mean and standard deviation of values whose errors differ: the spread with which the squares of what each is off by,
/// over spread and doubt together, sum up to n - 1 (Paule and Mandel 1982, Consensus values and weighting factors); 0
/// where the doubts alone explain them. Without doubts, the usual ones. None for fewer than two.
OffsetSpread offsetSpread(std::span<const DoubtedOffset> offsets);

/// Standard errors of that spread, and of the median beside it, by Gauss's law. 0 for fewer than two.
double spreadDoubtMs(std::span<const DoubtedOffset> offsets, double sdMs);
double medianDoubtMs(std::span<const DoubtedOffset> offsets, double sdMs);

} // namespace gristle::core
