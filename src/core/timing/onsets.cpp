#include "core/timing/onsets.h"

#include "core/signal/fft.h"
#include "core/signal/window.h"
#include "core/timing/prediction.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kHopS = 0.004;
constexpr double kWindowS = 0.021;
constexpr int kBack = 3; // frames that a rise is measured over
constexpr double kLowHz = 90.0, kHighHz = 14000.0;
constexpr double kBandsAnOctave = 10.0;
constexpr double kLeastRateHz = 2000.0;
constexpr double kApartS = 0.045; // a strum is one
constexpr double kThreshold = 0.085, kOverUsual = 1.6;
// What rises a little must be sharp, what is dull must rise a lot: partials that beat in a driven chord do neither.
// What grows louder behind its onset is a note in any case: what beats or slides does not.
constexpr double kSharpDb = 18.0, kGrownDb = 2.0, kNoGrowthDb = 0.6, kLeast = 1.5;
constexpr double kOfUsual = 0.11, kLeastWeak = 3.0;
constexpr double kSoftDb = 18.0; // an attack that may swell
constexpr double kScrapeFromS = 0.002, kScrapeToS = 0.009, kReleased = 9.0;
constexpr double kUnderLoudestDb = -42.0; // softer than that is no note but a noise

struct Frames {
    std::size_t count = 0;
    std::vector<float> rise;  ///< mean over the bands, in units of log10 of power
    std::vector<float> level; ///< power of the window
};

/// Bands of logarithmic width, no narrower than a bin.
std::vector<std::pair<std::size_t, std::size_t>> bandsOf(std::size_t n, double rateHz)
{
    std::vector<std::pair<std::size_t, std::size_t>> out;
    const double perHz = double(n) / rateHz, top = std::min(kHighHz, 0.45 * rateHz);
    std::size_t from = std::max<std::size_t>(1, std::size_t(kLowHz * perHz));
    for (double hz = kLowHz; hz < top;) {
        hz *= std::exp2(1.0 / kBandsAnOctave);
        const auto to = std::max(from + 1, std::size_t(std::llround(hz * perHz)));
        if (std::size_t(hz * perHz) < from) continue;
        out.emplace_back(from, std::min(to, n / 2));
        from = to;
        hz = std::max(hz, double(to) / perHz);
    }
    return out;
}

Frames riseOf(std::span<const float> x, double rateHz)
{
    const std::size_t n = fastFftSize(std::size_t(kWindowS * rateHz)), hop = std::size_t(kHopS * rateHz);
    const auto window = hannWindow(n);
    const auto bands = bandsOf(n, rateHz);
    RealFft fft(n);
    Frames out;
    out.count = x.size() / hop + 1;
    out.rise.assign(out.count, 0.0f), out.level.assign(out.count, 0.0f);
    // Levels over a floor that is far under the loudest: what is softer rises by nothing.
    std::vector<std::vector<float>> logs(kBack + 1, std::vector<float>(bands.size()));
    double loudest = 0.0;
    for (std::size_t i = 0; i + n <= x.size(); i += n / 2) {
        double sum = 0.0;
        for (std::size_t k = 0; k < n; ++k) sum += double(x[i + k]) * double(x[i + k]);
        loudest = std::max(loudest, sum);
    }
    const double floor = 1e-7 * loudest * double(n) * 0.1 + 1e-20;
    for (std::size_t f = 0; f < out.count; ++f) {
        const auto from = std::int64_t(f * hop) - std::int64_t(n / 2);
        double level = 0.0;
        for (std::size_t k = 0; k < n; ++k) {
            const std::int64_t at = from + std::int64_t(k);
            const double v = at >= 0 && at < std::int64_t(x.size()) ? double(x[std::size_t(at)]) : 0.0;
            fft.time()[k] = float(window[k] * v);
            level += v * v;
        }
        out.level[f] = float(level / double(n));
        fft.forward();
        auto& now = logs[f % (kBack + 1)];
        for (std::size_t b = 0; b < bands.size(); ++b) {
            double sum = 0.0;
            for (std::size_t k = bands[b].first; k < bands[b].second; ++k) sum += double(std::norm(fft.spectrum()[k]));
            now[b] = float(std::log10(sum / double(bands[b].second - bands[b].first) + floor));
        }
        if (f < std::size_t(kBack)) continue;
        const auto& before = logs[(f - kBack) % (kBack + 1)];
        double sum = 0.0;
        for (std::size_t b = 0; b < bands.size(); ++b) {
            float most = before[b];
            if (b > 0) most = std::max(most, before[b - 1]);
            if (b + 1 < bands.size()) most = std::max(most, before[b + 1]);
            sum += std::max(0.0f, now[b] - most);
        }
        out.rise[f] = float(sum / double(bands.size()));
    }
    return out;
}

/// By how much it is louder behind a place than before it, dB.
double growthAt(std::span<const float> x, double rateHz, double atS)
{
    const auto power = [&](double fromS, double toS) {
        const auto clamp = [&](double s) { return std::size_t(std::clamp(s * rateHz, 0.0, double(x.size()))); };
        double sum = 0.0;
        for (std::size_t i = clamp(fromS); i < clamp(toS); ++i) sum += double(x[i]) * double(x[i]);
        return sum / (toS - fromS) + 1e-12;
    };
    return 10.0 * std::log10(power(atS + 0.002, atS + 0.032) / power(atS - 0.025, atS - 0.003));
}

/// How sure it is that a note begins, kLeast and more where one does.
double sureness(const Onset& o, double growthDb)
{
    return std::log2(o.strength) + o.sharpDb / kSharpDb + std::max(0.0, growthDb - kNoGrowthDb) / kGrownDb;
}

/// Where within a stretch the prediction by what came before it fails.
struct Edge {
    double timeS;
    double scrapeS;
    double sharpDb; ///< power of the prediction's error, the 4 ms behind over what was before
};
/// A soft attack may begin faintly and swell later: where it does so clearly is told more alike from note to note.
/// @param heard  where it begins, before it `from` is foretold @param power  of the error before it
Edge swelling(std::span<const float> x, double rateHz, std::size_t from, std::size_t heard, const Edge& edge,
              double power)
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
    return sharpDb > edge.sharpDb + kMoreDb ? Edge{timeS, timeS, sharpDb} : edge;
}

Edge refined(std::span<const float> x, double rateHz, double coarseS)
{
    constexpr double kEarlierS = 0.018, kLaterS = 0.014;
    const auto clamp = [&](double s) { return std::size_t(std::clamp(s * rateHz, 0.0, double(x.size()))); };
    const std::size_t from = clamp(coarseS - kEarlierS), to = clamp(coarseS + kLaterS);
    if (to < from + 64) return {coarseS, coarseS, 0.0};
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
    if (at == 0) return {coarseS, coarseS, 0.0};
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
    const Edge edge{double(from + at) / rateHz, scrapeS,
                    10.0 * std::log10((sums[end] - sums[at]) / double(end - at) / power)};
    return edge.sharpDb < kSoftDb ? swelling(x, rateHz, from, from + at, edge, power) : edge;
}

} // namespace

std::vector<Onset> findOnsets(std::span<const float> x, double rateHz)
{
    std::vector<Onset> out;
    if (rateHz < kLeastRateHz || x.size() < std::size_t(0.1 * rateHz)) return out;
    const Frames frames = riseOf(x, rateHz);
    const double hopS = double(std::size_t(kHopS * rateHz)) / rateHz;
    const auto ahead = std::size_t(0.03 / hopS), around = std::size_t(0.12 / hopS);
    std::vector<float> sorted;
    const auto usual = [&](std::size_t f) {
        const std::size_t from = f > around ? f - around : 0, to = std::min(frames.count, f + around + 1);
        sorted.assign(frames.rise.begin() + long(from), frames.rise.begin() + long(to));
        std::ranges::nth_element(sorted, sorted.begin() + long(sorted.size() / 2));
        return double(sorted[sorted.size() / 2]);
    };
    const float loudest = *std::ranges::max_element(frames.level);
    const auto afterS = std::size_t(0.06 * rateHz);
    for (std::size_t f = 1; f + 1 < frames.count; ++f) {
        const double rise = double(frames.rise[f]);
        if (rise < kThreshold || rise < double(frames.rise[f - 1]) || rise < double(frames.rise[f + 1])) continue;
        const std::size_t from = f > ahead ? f - ahead : 0, to = std::min(frames.count, f + ahead + 1);
        if (*std::max_element(frames.rise.begin() + long(from), frames.rise.begin() + long(to)) > frames.rise[f])
            continue;
        const double threshold = kThreshold + kOverUsual * usual(f);
        if (rise < threshold) continue;
        Onset o;
        const Edge edge = refined(x, rateHz, double(f) * hopS - 0.5 * kBack * hopS);
        o.timeS = edge.timeS, o.scrapeS = edge.scrapeS, o.sharpDb = edge.sharpDb;
        o.strength = rise / threshold;
        if (sureness(o, growthAt(x, rateHz, o.timeS)) < kLeast) continue;
        const auto at = std::size_t(std::max(0.0, o.timeS * rateHz));
        double sum = 0.0;
        const std::size_t end = std::min(x.size(), at + afterS);
        for (std::size_t i = at; i < end; ++i) sum += double(x[i]) * double(x[i]);
        const double power = end > at ? sum / double(end - at) : 0.0;
        if (power < double(loudest) * dbToPower(kUnderLoudestDb)) continue;
        o.levelDbfs = 10.0 * std::log10(2.0 * power + 1e-20);
        if (!out.empty() && o.timeS - out.back().timeS < kApartS) {
            if (o.strength > 2.0 * out.back().strength) out.back() = o; // what came before was its scrape
            continue;
        }
        out.push_back(o);
    }
    // A slide's frets are far weaker than what is played.
    if (out.size() > 8) {
        std::vector<double> strengths;
        for (const Onset& o : out) strengths.push_back(o.strength);
        std::ranges::nth_element(strengths, strengths.begin() + long(strengths.size() / 2));
        const double usualStrength = strengths[strengths.size() / 2];
        std::erase_if(out, [&](const Onset& o) {
            return o.strength < kOfUsual * usualStrength && sureness(o, growthAt(x, rateHz, o.timeS)) < kLeastWeak;
        });
    }
    return out;
}

double attackSharpDb(std::span<const float> x, double rateHz, double atS) { return refined(x, rateHz, atS).sharpDb; }

} // namespace gristle::core
