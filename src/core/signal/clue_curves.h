#pragma once

#include <algorithm>
#include <array>
#include <cmath>
#include <cstddef>

namespace gristle::core {

/// What a clue is worth, in log odds, at six of its values; between them straight, outside as at the end.
struct ClueCurve {
    std::array<double, 6> at, worth;

    double worthOf(double clue) const
    {
        const double v = std::clamp(clue, at.front(), at.back());
        std::size_t k = 1;
        while (k + 1 < at.size() && v > at[k]) ++k;
        return worth[k - 1] + (v - at[k - 1]) / (at[k] - at[k - 1]) * (worth[k] - worth[k - 1]);
    }
};

/// The chance of what all clues speak for, 0 to 1: a generalised additive model in log odds (Hastie and Tibshirani
/// 1990).
template<std::size_t N>
double chanceOf(double bias, const std::array<ClueCurve, N>& curves, const std::array<double, N>& clues)
{
    double odds = bias;
    for (std::size_t c = 0; c < N; ++c) odds += curves[c].worthOf(clues[c]);
    return 1.0 / (1.0 + std::exp(-odds));
}

} // namespace gristle::core
