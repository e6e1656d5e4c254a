#include "core/timing/comp.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace gristle::core {

namespace {

constexpr double kRestDb = -34.0; // under a usual note nothing sounds any more
constexpr double kHopS = 0.01;
constexpr double kSameS = 0.03; // two takes begin a note together
constexpr double kBeforeOnsetS = 0.004, kOnsetFadeS = 0.006, kMostRestFadeS = 0.03;
constexpr double kRestCost = 0.05, kOnsetCost = 0.2, kNoJoin = 50.0;

/// The longest stretch in which both rest; its middle and length.
std::optional<std::pair<double, double>> commonRest(const TakeMeasure& a, const TakeMeasure& b, double fromS,
                                                    double toS)
{
    std::optional<std::pair<double, double>> best;
    double began = -1.0;
    for (double t = fromS; t <= toS + kHopS; t += kHopS) {
        const bool rests = t <= toS && a.levelAt(t) < kRestDb && b.levelAt(t) < kRestDb;
        if (rests && began < 0.0) began = t;
        if (!rests && began >= 0.0) {
            const double length = t - began;
            if (length >= 2.0 * kHopS && (!best || length > best->second)) best = {began + 0.5 * length, length};
            began = -1.0;
        }
    }
    return best;
}

/// By how much what sounds just before differs between two takes, dB, over eight octaves.
double unlikeDb(const TakeMeasure& a, double atA, const TakeMeasure& b, double atB)
{
    const auto hop = [](const TakeMeasure& t, double s) { return std::int64_t((s - t.atS) / kHopS) - 2; };
    const std::int64_t i = hop(a, atA), j = hop(b, atB);
    if (i < 0 || j < 0 || i >= std::ssize(a.octavesDb) || j >= std::ssize(b.octavesDb)) return 0.0;
    double sum = 0.0;
    for (std::size_t k = 0; k < 8; ++k) {
        const double x = std::max(-50.0, double(a.octavesDb[std::size_t(i)][k]) - a.usualDbfs);
        const double y = std::max(-50.0, double(b.octavesDb[std::size_t(j)][k]) - b.usualDbfs);
        sum += (x - y) * (x - y) / 8.0;
    }
    return std::sqrt(sum);
}

} // namespace

Join findJoin(const TakeMeasure& a, const TakeMeasure& b, const BarGrid& grid, double bar)
{
    const double line = grid.secondsOfBar(bar), beat = 60.0 / grid.bpmAt(line);
    const double fromS = line - 0.5 * beat, toS = line + 0.25 * beat;
    Join best{line, 0.02, Join::Kind::Ringing, kNoJoin};
    const auto offer = [&](const Join& join) {
        if (join.cost < best.cost) best = join;
    };
    if (const auto rest = commonRest(a, b, fromS, toS))
        offer({rest->first, std::min(kMostRestFadeS, 0.8 * rest->second), Join::Kind::Rest,
               kRestCost + 0.1 * std::abs(rest->first - line) / beat});
    for (const PlayedNote& n : a.notes) {
        if (n.timeS < fromS || n.timeS > toS) continue;
        const auto same =
            std::ranges::find_if(b.notes, [&](const PlayedNote& m) { return std::abs(m.timeS - n.timeS) < kSameS; });
        if (same == b.notes.end()) continue;
        const double apart = same->timeS - n.timeS, at = std::min(n.timeS, same->timeS) - kBeforeOnsetS;
        // What is before the onset must be alike, as it rings on under it.
        const double cost = kOnsetCost + 0.02 * std::abs(apart) * 1000.0 + unlikeDb(a, at, b, at) / 12.0 +
                            0.3 * std::abs(at - line) / beat;
        offer({at, kOnsetFadeS, Join::Kind::Onset, cost});
    }
    return best;
}

Comp shortestComp(const std::vector<CompBar>& bars, const JoinBetween& join, const std::vector<int>& kept)
{
    constexpr double kNever = std::numeric_limits<double>::infinity();
    const std::size_t takes = bars.empty() ? 0 : bars.front().cost.size();
    if (takes == 0) return {};
    const auto price = [&](std::size_t i, std::size_t t) {
        if (i < kept.size() && kept[i] >= 0 && std::size_t(kept[i]) != t) return kNever;
        return bars[i].cost[t] ? *bars[i].cost[t] : kNever;
    };
    const auto isHole = [&](std::size_t i) {
        for (std::size_t t = 0; t < takes; ++t)
            if (price(i, t) < kNever) return false;
        return true;
    };
    // What the way to each take of a bar costs, and from which take of the bar before it comes. A bar that nobody
    // played is passed for nothing, without a change.
    std::vector<double> cost(takes, 0.0);
    std::vector<std::vector<int>> from(bars.size(), std::vector<int>(takes, -1));
    for (std::size_t i = 0; i < bars.size(); ++i) {
        std::vector<double> next(takes, kNever);
        const bool hole = isHole(i);
        for (std::size_t t = 0; t < takes; ++t) {
            const double own = hole ? 0.0 : price(i, t);
            if (own == kNever) continue;
            if (i == 0) {
                next[t] = own;
                continue;
            }
            for (std::size_t f = 0; f < takes; ++f) {
                if (cost[f] == kNever || (hole && f != t)) continue;
                const double way = cost[f] + own + (f != t ? join(f, t, bars[i].bar).cost : 0.0);
                if (way < next[t]) next[t] = way, from[i][t] = int(f);
            }
        }
        cost = next;
    }
    auto at = std::ranges::min_element(cost) - cost.begin();
    std::vector<int> choice(bars.size(), -1);
    for (std::size_t i = bars.size(); i-- > 0;) {
        choice[i] = isHole(i) ? -1 : int(at);
        if (i > 0) at = from[i][std::size_t(at)];
    }
    return compOf(bars, choice, join);
}

Comp compOf(const std::vector<CompBar>& bars, const std::vector<int>& choice, const JoinBetween& join)
{
    Comp out;
    out.choice = choice;
    for (std::size_t i = 0; i < bars.size(); ++i) {
        if (choice[i] < 0) continue;
        const auto take = std::size_t(choice[i]);
        out.cost += bars[i].cost[take].value_or(kNoJoin);
        if (!out.pieces.empty() && out.pieces.back().take == take) continue;
        CompPiece piece{0.0, take, 0.01, bars[i].bar};
        if (!out.pieces.empty()) {
            const Join j = join(out.pieces.back().take, take, bars[i].bar);
            out.cost += j.cost;
            piece.fromS = j.atS, piece.fadeS = j.fadeS;
        }
        out.pieces.push_back(piece);
    }
    return out;
}

} // namespace gristle::core
