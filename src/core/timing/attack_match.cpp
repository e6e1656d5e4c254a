#include "core/timing/attack_match.h"

#include "core/timing/prediction.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <numeric>

namespace gristle::core {

namespace {

constexpr double kStepS = 0.00025; // of the attacks
constexpr double kSoftDb = 18.0;   // an attack that rises less may be told at either end
// Attacks so alike are told by their likeness, better than by either release; of soft ones already where less so.
constexpr double kSame = 0.985, kSameSoft = 0.96;

/// How an attack rises: the power of what the ringing strings do not foretell, a value each 0.25 ms, its fourth root so
/// that the peak is not all.
std::vector<double> attackOf(std::span<const float> x, double rateHz, double atS, double fromS, double toS)
{
    constexpr std::int64_t kSmooth = 4; // steps: a millisecond
    const auto count = std::llround((toS - fromS) / kStepS);
    const auto sampleOf = [&](std::int64_t k) {
        return std::int64_t(std::llround((atS + fromS + double(k) * kStepS) * rateHz));
    };
    const std::int64_t from = std::max<std::int64_t>(0, sampleOf(-kSmooth / 2)),
                       to = std::max(from, sampleOf(count + kSmooth));
    const auto error = predictionError(x, rateHz, std::size_t(from), std::size_t(to));
    std::vector<double> out;
    for (std::int64_t k = 0; k < count; ++k) {
        double sum = 0.0;
        const auto end = std::min(sampleOf(k + kSmooth / 2) - from, std::int64_t(error.size()));
        for (auto i = std::max<std::int64_t>(0, sampleOf(k - kSmooth / 2) - from); i < end; ++i)
            sum += error[std::size_t(i)] * error[std::size_t(i)];
        out.push_back(std::pow(sum, 0.25));
    }
    return out;
}

/// Correlation of both attacks, the second moved by each of -kMost to kMost: at 1 they rise the same way.
std::vector<double> alikeBy(std::span<const double> first, std::span<const double> second, std::int64_t most)
{
    const double meanA = std::accumulate(first.begin(), first.end(), 0.0) / double(first.size());
    double spread = 0.0;
    for (const double v : first) spread += (v - meanA) * (v - meanA);
    std::vector<double> out;
    for (std::int64_t s = -most; s <= most; ++s) {
        double ab = 0.0, bb = 0.0, meanB = 0.0;
        const auto from = std::size_t(most + s);
        for (std::size_t k = 0; k < first.size(); ++k) meanB += second[from + k] / double(first.size());
        for (std::size_t k = 0; k < first.size(); ++k) {
            ab += (first[k] - meanA) * (second[from + k] - meanB);
            bb += (second[from + k] - meanB) * (second[from + k] - meanB);
        }
        out.push_back(bb > 0.0 ? ab / (std::sqrt(bb * spread) + 1e-30) : 0.0);
    }
    return out;
}

std::int64_t stepsOf(double seconds) { return std::llround(seconds / kStepS); }

/// How both attacks of a pair rise around their onsets, foretold from equally long before them.
struct PairOfAttacks {
    static constexpr double kFrom = -0.020, kTo = 0.030, kMost = 0.033; // that one may be moved by
    std::vector<double> first, second;

    PairOfAttacks(std::span<const float> a, double atA, std::span<const float> b, double atB, double rateHz)
        : first(attackOf(a, rateHz, atA, kFrom - kMost, kTo + kMost)),
          second(attackOf(b, rateHz, atB, kFrom - kMost, kTo + kMost))
    {}
    /// From so long before the onsets to kTo, the second moved by -most to most steps around `shift`.
    std::vector<double> alikeAround(std::int64_t shift, std::int64_t most, double fromS) const
    {
        const auto from = stepsOf(fromS - kFrom + kMost), count = stepsOf(kTo - fromS);
        return alikeBy(std::span(first).subspan(std::size_t(from), std::size_t(count)),
                       std::span(second).subspan(std::size_t(from + shift - most), std::size_t(count + 2 * most)),
                       most);
    }
};

/// @param at           steps that the second is moved by beforehand, at most 25 ms
/// @param scrapeShift  what the difference of their scrapes says
AttackMatch fitted(const PairOfAttacks& attacks, std::int64_t at, double scrapeShift, bool isSoft)
{
    constexpr double kFrom = -0.012, kMost = 0.008, kBetter = 0.3, kBetterScrape = 0.02;
    constexpr std::int64_t kNear = 4; // a millisecond
    const std::int64_t most = stepsOf(kMost);
    const auto alike = attacks.alikeAround(at, most, kFrom);
    // Near what the releases say, or what the scrapes say; elsewhere only where that is clearly better.
    const auto near = [&](double shift) {
        const auto middle = stepsOf(shift) + most;
        std::int64_t best = std::clamp<std::int64_t>(middle, 1, 2 * most - 1);
        for (std::int64_t k = middle - kNear; k <= middle + kNear; ++k)
            if (k > 0 && k < 2 * most && alike[std::size_t(k)] > alike[std::size_t(best)]) best = k;
        return best;
    };
    const auto released = near(0.0), scraped = near(scrapeShift);
    const auto all = std::ranges::max_element(alike) - alike.begin();
    const auto alikeAt = [&](std::int64_t k) { return alike[std::size_t(k)]; };
    const bool isWithin = all > 0 && all < 2 * most;
    auto top = released;
    if (alikeAt(scraped) > alikeAt(top) + kBetterScrape) top = scraped;
    if (isWithin && alikeAt(all) > alikeAt(top) + kBetter) top = all;
    const bool isSame = isWithin && alikeAt(all) > (isSoft ? kSameSoft : kSame);
    if (isSame) top = all;
    if (top == released && !isSame) return {0.0, alikeAt(top)}; // a release is told better than by likeness
    const double l = alikeAt(top - 1), m = alikeAt(top), r = alikeAt(top + 1);
    const double bend = l - 2.0 * m + r, between = bend < 0.0 ? std::clamp(0.5 * (l - r) / bend, -0.5, 0.5) : 0.0;
    return {(double(top - most) + between) * kStepS, m};
}

/// The most likely shift by how alike the attacks are there, by the onsets themselves, and by how far apart the pair's
/// other notes are: the logarithms' sum. An attack that hardly rises is like any.
struct Likely {
    double shiftS = 0.0, widthS = 0.0;
};
Likely likelyShift(const PairOfAttacks& attacks, const Onset& first, const Onset& second, const HandsApart& usual)
{
    constexpr double kMost = 0.025;
    constexpr double kAlike = 15.0, kRisesDb = 10.0, kOnset = 1.0, kOnsetS = 0.001;
    constexpr double kFreedom = 5.0; // Student's t: now and then a hand is far away
    const std::int64_t most = stepsOf(kMost);
    const auto alike = attacks.alikeAround(0, most, PairOfAttacks::kFrom);
    const double tells = kAlike * std::clamp(std::min(first.sharpDb, second.sharpDb) / kRisesDb, 0.0, 1.0);
    const auto shiftAt = [&](std::size_t k) { return double(std::int64_t(k) - most) * kStepS; };
    std::vector<double> likely;
    for (std::size_t k = 0; k < alike.size(); ++k) {
        const double at = shiftAt(k), far = (second.timeS - first.timeS + at - usual.medianS) / usual.spreadS;
        likely.push_back(tells * alike[k] + kOnset * std::exp(-at * at / (kOnsetS * kOnsetS)) -
                         0.5 * (kFreedom + 1.0) * std::log1p(far * far / kFreedom));
    }
    const auto best = std::ranges::max_element(likely);
    const double shift = shiftAt(std::size_t(best - likely.begin()));
    double weights = 0.0, squares = 0.0;
    for (std::size_t k = 0; k < likely.size(); ++k) {
        const double weight = std::exp(likely[k] - *best), away = shiftAt(k) - shift;
        weights += weight, squares += weight * away * away;
    }
    return {shift, std::sqrt(squares / weights)};
}

} // namespace

AttackMatch matchAttacks(std::span<const float> a, const Onset& first, std::span<const float> b, const Onset& second,
                         double rateHz, const HandsApart& usual)
{
    constexpr double kSameS = 0.001;
    const bool isSoft = std::min(first.sharpDb, second.sharpDb) < kSoftDb;
    const PairOfAttacks attacks(a, first.timeS, b, second.timeS, rateHz);
    const auto at = [&](double shift) {
        AttackMatch out = fitted(attacks, stepsOf(shift),
                                 (second.scrapeS - first.scrapeS) - (second.timeS - first.timeS) - shift, isSoft);
        out.shiftS += shift;
        return out;
    };
    const Likely likely = likelyShift(attacks, first, second, usual);
    AttackMatch out = at(0.0);
    if (std::abs(likely.shiftS - out.shiftS) >= kSameS) out = at(likely.shiftS);
    out.widthS = likely.widthS;
    return out;
}

double offsetDoubtMs(const AttackMatch& match, double soundsAlike)
{
    constexpr double kUsualWidthMs = 1.3;
    const double byLikeness =
        0.15 + 27.0 * (1.004 - std::min(1.0, match.alike)) * std::pow(1.01 - std::min(1.0, soundsAlike), 0.25);
    return std::hypot(byLikeness, std::max(0.0, 1000.0 * match.widthS - kUsualWidthMs));
}

} // namespace gristle::core
