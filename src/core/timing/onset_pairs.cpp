#include "core/timing/onset_pairs.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kBandS = 0.15;     // notes further apart are no pair
constexpr double kOwnPart = 0.6;    // nor those further apart than most of the way to a neighbour's place
constexpr std::ptrdiff_t kNear = 4; // notes on either side, of which the closest two tell how far that is
constexpr double kLeftOver = 0.55;  // costs as much as 66 ms
constexpr double kWorthS = 0.12;    // a pair so far apart costs 1

/// How far a pair of each note may be apart.
std::vector<double> reachOf(const std::vector<Onset>& onsets)
{
    std::vector<double> out(onsets.size(), kBandS);
    for (std::ptrdiff_t i = 0; i < std::ssize(onsets); ++i)
        for (std::ptrdiff_t k = std::max<std::ptrdiff_t>(1, i - kNear + 1);
             k <= std::min(i + kNear, std::ssize(onsets) - 1); ++k)
            out[std::size_t(i)] = std::min(
                out[std::size_t(i)], kOwnPart * (onsets[std::size_t(k)].timeS - onsets[std::size_t(k - 1)].timeS));
    return out;
}

} // namespace

OnsetPairs pairedOnsets(const std::vector<Onset>& a, const std::vector<Onset>& b, double moved)
{
    // cost[i][j] of the first i and j notes, only where j can meet i: rows of their own extent.
    struct Row {
        std::size_t from = 0;
        std::vector<float> cost;
        std::vector<char> step; ///< 0 both, 1 the first's is left, 2 the second's
    };
    std::vector<Row> rows(a.size() + 1);
    const auto reachA = reachOf(a), reachB = reachOf(b);
    const auto lowest = [&](std::size_t i) {
        const double t = (i == 0 ? (a.empty() ? 0.0 : a[0].timeS) : a[i - 1].timeS) + moved - 4.0 * kBandS;
        return std::size_t(std::ranges::lower_bound(b, t, {}, &Onset::timeS) - b.begin());
    };
    const auto highest = [&](std::size_t i) {
        const double t = (i >= a.size() ? (a.empty() ? 0.0 : a.back().timeS) : a[i].timeS) + moved + 4.0 * kBandS;
        return std::size_t(std::ranges::upper_bound(b, t, {}, &Onset::timeS) - b.begin());
    };
    const auto costAt = [&](const Row& row, std::size_t j) {
        // Outside of a row, all that the second has before is left over.
        if (j < row.from) return 1e9;
        return j - row.from < row.cost.size() ? double(row.cost[j - row.from]) : 1e9;
    };
    for (std::size_t i = 0; i <= a.size(); ++i) {
        Row& row = rows[i];
        row.from = i == 0 ? 0 : std::max(rows[i - 1].from, std::min(lowest(i), b.size()));
        const std::size_t to = i == a.size() ? b.size() : std::max(row.from, highest(i));
        row.cost.assign(to - row.from + 1, 1e9f), row.step.assign(to - row.from + 1, 2);
        for (std::size_t j = row.from; j <= to; ++j) {
            double best = i == 0 && j == 0 ? 0.0 : 1e9;
            char step = 2;
            if (i > 0 && j > 0) {
                const double apart = std::abs(b[j - 1].timeS - a[i - 1].timeS - moved);
                const double c = costAt(rows[i - 1], j - 1) +
                                 (apart < std::max(reachA[i - 1], reachB[j - 1]) ? apart / kWorthS : 1e9);
                if (c < best) best = c, step = 0;
            }
            if (i > 0)
                if (const double c = costAt(rows[i - 1], j) + kLeftOver; c < best) best = c, step = 1;
            if (j > row.from)
                if (const double c = costAt(row, j - 1) + kLeftOver; c < best) best = c, step = 2;
            if (i > 0 && j == row.from && row.from > rows[i - 1].from && best > 1e8) {
                best = costAt(rows[i - 1], rows[i - 1].from) + kLeftOver * double(1 + j - rows[i - 1].from), step = 1;
            }
            row.cost[j - row.from] = float(best), row.step[j - row.from] = step;
        }
    }
    OnsetPairs out;
    std::size_t i = a.size(), j = b.size();
    while (i > 0 && j > 0) {
        const Row& row = rows[i];
        if (j < row.from || j - row.from >= row.step.size()) {
            --j;
            continue;
        }
        switch (row.step[j - row.from]) {
        case 0: out.emplace_back(--i, --j); break;
        case 1: --i; break;
        default: --j;
        }
    }
    std::ranges::reverse(out);
    return out;
}

} // namespace gristle::core
