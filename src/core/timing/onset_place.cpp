#include "core/timing/onset_place.h"

#include "core/timing/prediction.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace gristle::core {

namespace {

constexpr double kSoftDb = 18.0; // an attack that may swell
constexpr double kScrapeFromS = 0.002, kScrapeToS = 0.009, kReleased = 9.0;

/// A soft attack may begin faintly and swell later: where it does so clearly is told more alike from note to note.
/// @param heard  where it begins, before it `from` is foretold @param power  of the error before it
OnsetPlace swelling(std::span<const float> x, double rateHz, std::size_t from, std::size_t heard,
                    const OnsetPlace& edge, double power)
{
    constexpr double kFromS = 0.006, kToS = 0.022, kSwellS = 0.004, kSwellsBy = 2.5, kMoreDb = 4.0;
    const auto window = std::size_t(kSwellS * rateHz);
    const auto error =
        predictionError(x, rateHz, from, std::min(x.size(), heard + std::size_t((kToS + kSwellS) * rateHz)));
    std::vector<double> sums(error.size() + 1);
    for (std::size_t i = 0; i < error.size(); ++i) sums[i + 1] = sums[i] + error[i] * error[i] + 1e-18;
    double most = 0.0;
    std::size_t at = 0;
    for (std::size_t j = heard - from + std::size_t(kFromS * rateHz); j + window < error.size(); ++j)
        if (const double by = (sums[j + window] - sums[j]) / (sums[j] - sums[j - window]); by > most) most = by, at = j;
    if (at == 0 || most < kSwellsBy) return edge;
    const double sharpDb = 10.0 * std::log10((sums[at + window] - sums[at]) / double(window) / power);
    const double timeS = double(from + at) / rateHz;
    return sharpDb > edge.sharpDb + kMoreDb ? OnsetPlace{timeS, timeS, sharpDb} : edge;
}

} // namespace

OnsetPlace onsetPlace(std::span<const float> x, double rateHz, double roughS)
{
    constexpr double kEarlierS = 0.018, kLaterS = 0.014;
    const auto clamp = [&](double s) { return std::size_t(std::clamp(s * rateHz, 0.0, double(x.size()))); };
    const std::size_t from = clamp(roughS - kEarlierS), to = clamp(roughS + kLaterS);
    if (to < from + 64) return {roughS, roughS, 0.0};
    const auto error = predictionError(x, rateHz, from, to);
    // Two variances: the split that makes both most likely, with some samples on either side.
    std::vector<double> sums(error.size() + 1);
    for (std::size_t i = 0; i < error.size(); ++i) sums[i + 1] = sums[i] + error[i] * error[i] + 1e-18;
    const auto n = double(error.size());
    const auto least = std::size_t(0.001 * rateHz);
    double best = 1e300;
    std::size_t at = 0;
    for (std::size_t i = least; i + least < error.size(); ++i) {
        const double before = sums[i] / double(i), after = (sums.back() - sums[i]) / (n - double(i));
        if (after < before) continue;
        const double cost = double(i) * std::log(before) + (n - double(i)) * std::log(after);
        if (cost < best) best = cost, at = i;
    }
    if (at == 0) return {roughS, roughS, 0.0};
    const double scrapeS = double(from + at) / rateHz;
    // What begins there may be the pick's scrape, and the string's release a few milliseconds behind it.
    const auto first = at + std::size_t(kScrapeFromS * rateHz),
               last = std::min(at + std::size_t(kScrapeToS * rateHz), error.size() - least);
    const auto tail = std::size_t(0.004 * rateHz);
    double most = 0.0;
    std::size_t release = at;
    for (std::size_t j = first; j < last; ++j) {
        const double scraped = (sums[j] - sums[at]) / double(j - at);
        const double freed =
            (sums[std::min(error.size(), j + tail)] - sums[j]) / double(std::min(tail, error.size() - j));
        const double gain = double(j - at) * std::log(freed / scraped);
        if (freed > kReleased * scraped && gain > most) most = gain, release = j;
    }
    at = release;
    const std::size_t end = std::min(error.size(), at + std::size_t(0.004 * rateHz));
    const double power = sums[at] / double(at);
    const OnsetPlace edge{double(from + at) / rateHz, scrapeS,
                          10.0 * std::log10((sums[end] - sums[at]) / double(end - at) / power)};
    return edge.sharpDb < kSoftDb ? swelling(x, rateHz, from, from + at, edge, power) : edge;
}

} // namespace gristle::core
