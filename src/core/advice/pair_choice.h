#pragma once

#include "core/timing/double_take.h"

#include <optional>
#include <string>
#include <vector>

namespace gristle::core {

/// What two takes are worth as a pair, less is better: 0.25 for a spread of half of what is still width, 1 at its end,
/// 3 where they are heard as one; half a point for 5 cents, ten for all notes missed. A copy 100, two parts 200. Where
/// one lies as a whole costs nothing: it can be moved. Weights of our own, told in docs/takes.md.
double pairCost(const DoubleTake& take, const DoubleLimits& limits);

/// What a pair is heard as, in a word or two: "width", "one", "loose", "flam", "a copy", "two parts", "another pitch".
std::string pairWord(const DoubleTake& take, const DoubleLimits& limits);

/// The cost of each pair of n takes: [a][b], the same both ways.
using PairCosts = std::vector<std::vector<double>>;

/// Takes for two sides.
struct SideChoice {
    std::vector<std::size_t> left, right; ///< one or two each, in ascending order
    double cost = 0.0;                    ///< of its takes, of pairs across, and half of pairs on one side
    std::optional<double> nextCost;       ///< of the best choice of other takes
};
/// The cheapest set of `count` takes (2 or 4), all tried. None of fewer. @param own  what each take costs by itself
/// Cost: n^count.
std::optional<SideChoice> bestSides(const PairCosts& pairs, const std::vector<double>& own, std::size_t count);

} // namespace gristle::core
