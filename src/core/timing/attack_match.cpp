#include "core/timing/attack_match.h"

#include "core/signal/fft.h"
#include "core/signal/window.h"
#include "core/timing/prediction.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace gristle::core {

namespace {

constexpr double kGrossS = 0.006; // no hand is told so wrong by its release
constexpr double kSoftDb = 18.0;  // an attack that rises less may be told at either end
// Attacks so alike are told by their likeness, better than by either release; of soft ones already where less so.
constexpr double kSame = 0.985, kSameSoft = 0.96;

/// How an attack rises: the power of what the ringing strings do not foretell, a value each 0.25 ms, its fourth root so
/// that the peak is not all.
std::vector<double> attackOf(std::span<const float> x, double rateHz, double atS, double fromS, double toS)
{
    const auto step = std::size_t(0.00025 * rateHz);
    const auto count = std::size_t((toS - fromS) / 0.00025);
    const auto start = std::int64_t(std::llround((atS + fromS) * rateHz)) - std::int64_t(2 * step);
    const auto from = std::size_t(std::max<std::int64_t>(0, start));
    const auto error = predictionError(x, rateHz, from, from + (count + 4) * step);
    std::vector<double> out(count);
    for (std::size_t k = 0; k < count; ++k) {
        double sum = 0.0;
        for (std::size_t i = k * step; i < (k + 4) * step && i < error.size(); ++i) sum += error[i] * error[i]; // 1 ms
        out[k] = std::pow(sum, 0.25);
    }
    return out;
}

/// @param scrapeShift  what the difference of their scrapes says
AttackMatch fitted(std::span<const float> a, double atA, std::span<const float> b, double atB, double rateHz,
                   double scrapeShift, bool isSoft)
{
    constexpr double kFrom = -0.012, kTo = 0.030, kMost = 0.008, kBetter = 0.3, kBetterScrape = 0.02;
    constexpr std::int64_t kNear = 4; // a millisecond
    const auto first = attackOf(a, rateHz, atA, kFrom, kTo),
               second = attackOf(b, rateHz, atB, kFrom - kMost, kTo + kMost);
    const auto most = std::int64_t(kMost / 0.00025);
    const double meanA = std::accumulate(first.begin(), first.end(), 0.0) / double(first.size());
    double spread = 0.0;
    for (const double v : first) spread += (v - meanA) * (v - meanA);
    std::vector<double> scores;
    for (std::int64_t s = -most; s <= most; ++s) {
        double ab = 0.0, bb = 0.0, meanB = 0.0;
        const auto from = std::size_t(most + s);
        for (std::size_t k = 0; k < first.size(); ++k) meanB += second[from + k] / double(first.size());
        for (std::size_t k = 0; k < first.size(); ++k) {
            ab += (first[k] - meanA) * (second[from + k] - meanB);
            bb += (second[from + k] - meanB) * (second[from + k] - meanB);
        }
        scores.push_back(bb > 0.0 ? ab / std::sqrt(bb) : 0.0);
    }
    // Near what the releases say, or what the scrapes say; elsewhere only where that is clearly better.
    const auto near = [&](double shift) {
        const auto middle = std::int64_t(std::llround(shift / 0.00025)) + most;
        std::int64_t best = std::clamp<std::int64_t>(middle, 1, 2 * most - 1);
        for (std::int64_t k = middle - kNear; k <= middle + kNear; ++k)
            if (k > 0 && k < 2 * most && scores[std::size_t(k)] > scores[std::size_t(best)]) best = k;
        return best;
    };
    const auto released = near(0.0), scraped = near(scrapeShift);
    const auto all = std::ranges::max_element(scores) - scores.begin();
    const double unit = std::sqrt(spread) + 1e-30;
    const auto alikeAt = [&](std::int64_t k) { return scores[std::size_t(k)] / unit; };
    const bool isWithin = all > 0 && all < 2 * most;
    auto top = released;
    if (alikeAt(scraped) > alikeAt(top) + kBetterScrape) top = scraped;
    if (isWithin && alikeAt(all) > alikeAt(top) + kBetter) top = all;
    const bool isSame = isWithin && alikeAt(all) > (isSoft ? kSameSoft : kSame);
    if (isSame) top = all;
    if (top == released && !isSame) return {0.0, alikeAt(top)}; // a release is told better than by likeness
    const double l = alikeAt(top - 1), m = alikeAt(top), r = alikeAt(top + 1);
    const double bend = l - 2.0 * m + r;
    return {(double(top - most) + (bend < 0.0 ? 0.5 * (l - r) / bend : 0.0)) * 0.00025, m};
}

} // namespace

/// How a note comes up: levels of 16 bands each millisecond, from 25 ms before its onset on.
class AttackMatcher::Rise {
public:
    static constexpr double kHopS = 0.001, kBeforeS = 0.025, kBehindS = 0.06, kMostS = 0.02;
    static constexpr std::size_t kBands = 16;
    explicit Rise(double rateHz)
        : rate_(rateHz), fft_(fastFftSize(std::size_t(0.0105 * rateHz))), window_(hannWindow(fft_.size()))
    {}
    using Frame = std::array<float, kBands>;
    std::vector<Frame> of(std::span<const float> x, double atS, double moreS)
    {
        const double perHz = double(fft_.size()) / rate_;
        std::vector<Frame> out(std::size_t((kBeforeS + kBehindS + 2.0 * moreS) / kHopS));
        float most = -200.0f;
        for (std::size_t f = 0; f < out.size(); ++f) {
            const auto from =
                std::int64_t((atS - kBeforeS - moreS + double(f) * kHopS) * rate_) - std::int64_t(fft_.size() / 2);
            for (std::size_t i = 0; i < fft_.size(); ++i) {
                const std::int64_t at = from + std::int64_t(i);
                fft_.time()[i] =
                    at >= 0 && at < std::int64_t(x.size()) ? float(window_[i] * double(x[std::size_t(at)])) : 0.0f;
            }
            fft_.forward();
            for (std::size_t b = 0; b < kBands; ++b) {
                const double low = 100.0 * std::exp2(0.4 * double(b));
                const auto k1 = std::size_t(low * perHz),
                           k2 = std::max(k1 + 1, std::size_t(low * std::exp2(0.4) * perHz));
                double sum = 1e-14;
                for (std::size_t k = k1; k < std::min(k2, fft_.spectrum().size()); ++k)
                    sum += double(std::norm(fft_.spectrum()[k]));
                out[f][b] = float(10.0 * std::log10(sum));
                most = std::max(most, out[f][b]);
            }
        }
        for (Frame& frame : out)
            for (float& v : frame) v = std::max(v, most - 45.0f);
        return out;
    }
    /// What may bring the second's rise onto the first's, s; 0 unless that fits better.
    double shift(std::span<const float> a, double atA, std::span<const float> b, double atB)
    {
        constexpr double kBetter = 0.8, kAlikeDb = 6.0;
        const auto first = of(a, atA, 0.0), second = of(b, atB, kMostS);
        const auto most = std::size_t(kMostS / kHopS);
        double still = 0.0, best = 1e30;
        std::size_t at = most;
        for (std::size_t s = 0; s <= 2 * most; ++s) {
            double sum = 0.0;
            for (std::size_t f = 0; f < first.size(); ++f)
                for (std::size_t band = 0; band < kBands; ++band) {
                    const double d = double(first[f][band] - second[f + s][band]);
                    sum += d * d;
                }
            if (s == most) still = sum;
            if (sum < best) best = sum, at = s;
        }
        const bool isAlike =
            std::sqrt(best / double(first.size() * kBands)) < kAlikeDb; // sounds of another kind rise otherwise
        return isAlike && best < kBetter * still ? (double(at) - double(most)) * kHopS : 0.0;
    }

private:
    double rate_;
    RealFft fft_;
    std::vector<double> window_;
};

AttackMatcher::AttackMatcher(double rateHz) : rate_(rateHz), rise_(std::make_unique<Rise>(rateHz)) {}
AttackMatcher::~AttackMatcher() = default;

AttackMatch AttackMatcher::match(std::span<const float> a, const Onset& first, std::span<const float> b,
                                 const Onset& second)
{
    const bool isSoft = std::min(first.sharpDb, second.sharpDb) < kSoftDb;
    const auto at = [&](double shift) {
        AttackMatch out = fitted(a, first.timeS, b, second.timeS + shift, rate_,
                                 (second.scrapeS - first.scrapeS) - (second.timeS - first.timeS) - shift, isSoft);
        out.shiftS += shift;
        return out;
    };
    AttackMatch best = at(0.0);
    if (isSoft)
        if (const double shift = rise_->shift(a, first.timeS, b, second.timeS); std::abs(shift) > kGrossS)
            if (const AttackMatch other = at(shift); other.alike > best.alike) best = other;
    return best;
}

double offsetDoubtMs(double attacksAlike, double soundsAlike)
{
    return 0.15 + 27.0 * (1.004 - std::min(1.0, attacksAlike)) * std::pow(1.01 - std::min(1.0, soundsAlike), 0.25);
}

} // namespace gristle::core
