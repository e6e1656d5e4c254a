#pragma once

#include "core/timing/take_measure.h"

#include <functional>

namespace gristle::core {

/// What two takes cost to be joined where a bar begins.
struct Join;
using JoinBetween = std::function<Join(std::size_t fromTake, std::size_t toTake, int bar)>;

/// Where one take can go over into another: at a rest of both, or just before a note that both begin.
struct Join {
    enum class Kind { Rest, Onset, Ringing };
    double atS = 0.0; ///< of the song
    double fadeS = 0.01;
    Kind kind = Kind::Rest;
    double cost = 0.0; ///< in the unit of a bar's cost: a rest 0.05, an onset 0.2 and what the two differ there
};
/// The best place around a bar line, from half a beat before it to a quarter beat behind. Where only ringing notes
/// could be cut, at the bar line for a price of 50: more than any bar costs.
Join findJoin(const TakeMeasure& from, const TakeMeasure& to, const BarGrid& grid, double bar);

struct CompBar {
    int bar = 1;
    std::vector<std::optional<double>> cost; ///< of each take; none where it was not played
};
struct CompPiece {
    double fromS = 0.0;
    std::size_t take = 0;
    double fadeS = 0.01;
    int bar = 1; ///< that it begins with
};
struct Comp {
    std::vector<CompPiece> pieces;
    double cost = 0.0;       ///< of its bars and joins
    std::vector<int> choice; ///< of each bar: the take, or -1 where nobody played it
};

/// The cheapest way through the bars: a take for each, the price of its bar and of each join between two bars. Found by
/// dynamic programming (Bellman 1957), so no other way is cheaper. @param kept  bars whose take is given: -1 free
/// Cost: bars times takes squared.
Comp shortestComp(const std::vector<CompBar>& bars, const JoinBetween& join, const std::vector<int>& kept = {});

/// The same for a choice that is given.
Comp compOf(const std::vector<CompBar>& bars, const std::vector<int>& choice, const JoinBetween& join);

} // namespace gristle::core
