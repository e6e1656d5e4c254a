#include "core/advice/pair_choice.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kCopy = 100.0, kUnrelated = 200.0, kOne = 3.0;
constexpr double kTuningCents = 5.0, kTuning = 0.5, kMostTuning = 3.0, kMissed = 10.0, kSameSide = 0.5;

} // namespace

double pairCost(const DoubleTake& take, const DoubleLimits& limits)
{
    if (take.isUnrelated) return kUnrelated;
    if (take.isCopy) return kCopy;
    double out = 0.0;
    const double spread = std::max(take.offsetSdMs, take.spreadDoubtMs()); // what is not known is not "one"
    if (spread < limits.oneMs)
        out += kOne;
    else
        out += std::pow(spread / limits.widthMs, 2.0);
    const double cents = take.tuningMeanCents.value_or(0.0) / kTuningCents;
    out += std::min(kMostTuning, kTuning * cents * cents);
    const double all = double(2 * take.notes.size() + take.unmatchedFirst + take.unmatchedSecond);
    return out + kMissed * double(take.unmatchedFirst + take.unmatchedSecond) / std::max(1.0, all);
}

std::string pairWord(const DoubleTake& take, const DoubleLimits& limits)
{
    if (take.semitonesHigher != 0) return "another pitch";
    if (take.isUnrelated) return "two parts";
    if (take.isCopy) return "a copy";
    switch (heardAs(take, limits)) {
    case DoubleHeard::One: return "one";
    case DoubleHeard::Width: return "width";
    case DoubleHeard::Loose: return "loose";
    case DoubleHeard::Flam: return "flam";
    }
    return {};
}

std::optional<SideChoice> bestSides(const PairCosts& pairs, const std::vector<double>& own, std::size_t count)
{
    const std::size_t n = own.size();
    if (n < count || (count != 2 && count != 4)) return std::nullopt;
    std::optional<SideChoice> best;
    std::vector<std::size_t> bestSet;
    std::vector<std::pair<double, std::vector<std::size_t>>> all;
    const auto offer = [&](const std::vector<std::size_t>& left, const std::vector<std::size_t>& right) {
        SideChoice choice{left, right, 0.0, std::nullopt};
        for (const auto* side : {&left, &right})
            for (const std::size_t t : *side) choice.cost += own[t];
        for (const std::size_t l : left)
            for (const std::size_t r : right) choice.cost += pairs[l][r];
        for (const auto* side : {&left, &right})
            if (side->size() == 2) choice.cost += kSameSide * pairs[(*side)[0]][(*side)[1]];
        std::vector<std::size_t> set = left;
        set.insert(set.end(), right.begin(), right.end());
        std::ranges::sort(set);
        all.emplace_back(choice.cost, set);
        if (!best || choice.cost < best->cost) best = choice, bestSet = set;
    };
    for (std::size_t a = 0; a < n; ++a)
        for (std::size_t b = a + 1; b < n; ++b) {
            if (count == 2) {
                offer({a}, {b});
                continue;
            }
            for (std::size_t c = b + 1; c < n; ++c)
                for (std::size_t d = c + 1; d < n; ++d) { // three ways of two and two
                    offer({a, b}, {c, d});
                    offer({a, c}, {b, d});
                    offer({a, d}, {b, c});
                }
        }
    for (const auto& [cost, set] : all)
        if (set != bestSet && (!best->nextCost || cost < *best->nextCost)) best->nextCost = cost;
    return best;
}

} // namespace gristle::core
