#include "core/timing/lacking.h"

#include "core/signal/fft.h"
#include "core/signal/window.h"
#include "core/timing/lack_weights.h"
#include "core/units/decibels.h"
#include "core/units/median.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace gristle::core {

namespace {

constexpr double kNearS = 0.06; // of a note that hands may be apart by
constexpr double kSpectrumS = 0.1;
constexpr double kBandsAnOctave = 24.0, kLowHz = 70.0, kHighHz = 6000.0;
constexpr double kUnderDb = 40.0; // under the strongest partial nothing is looked for
constexpr double kRiseDb = 6.0, kMostDb = 20.0;
constexpr double kNothing = -10.0; // log odds of a note where nothing rises
constexpr double kFarS = 1.0;

double logOdds(double chance)
{
    const double p = std::clamp(chance, 1e-6, 1.0 - 1e-6);
    return std::log(p / (1.0 - p));
}

double within(double dB) { return std::clamp(dB, -kMostDb, kMostDb); }

/// RMS of a stretch, dB.
double levelDb(std::span<const float> x, double rateHz, double fromS, double toS)
{
    const auto at = [&](double s) { return std::size_t(std::clamp(s * rateHz, 0.0, double(x.size()))); };
    double sum = 0.0;
    for (std::size_t i = at(fromS); i < at(toS); ++i) sum += double(x[i]) * double(x[i]);
    return powerToDb(sum / ((toS - fromS) * rateHz) + 1e-13);
}

/// Of the 100 ms from a place on, dB by quarter tones.
std::vector<double> spectrumFrom(std::span<const float> x, double rateHz, double fromS, RealFft& fft)
{
    const auto n = std::size_t(kSpectrumS * rateHz);
    const auto window = hannWindow(n);
    const auto from = std::int64_t(fromS * rateHz);
    std::ranges::fill(fft.time(), 0.0f);
    for (std::size_t i = 0; i < n; ++i)
        if (const auto at = from + std::int64_t(i); at >= 0 && at < std::int64_t(x.size()))
            fft.time()[i] = float(window[i] * double(x[std::size_t(at)]));
    fft.forward();
    std::vector<double> out;
    const double perHz = double(fft.size()) / rateHz, step = std::exp2(1.0 / kBandsAnOctave);
    for (double hz = kLowHz; hz < kHighHz; hz *= step) {
        auto k = std::size_t(hz * perHz);
        const auto end = std::max(k + 1, std::size_t(hz * step * perHz));
        double sum = 1e-14;
        for (; k < std::min(end, fft.spectrum().size()); ++k) sum += double(std::norm(fft.spectrum()[k]));
        out.push_back(powerToDb(sum / double(n)));
    }
    return out;
}

/// How alike two spectra are, as far as they stand over what is 40 dB under their strongest, 0 to 1.
double alike(const std::vector<double>& a, const std::vector<double>& b)
{
    const double topA = *std::ranges::max_element(a), topB = *std::ranges::max_element(b);
    double ab = 0.0, aa = 1e-9, bb = 1e-9;
    for (std::size_t i = 0; i < a.size(); ++i) {
        const double p = std::max(0.0, a[i] - topA + kUnderDb), q = std::max(0.0, b[i] - topB + kUnderDb);
        ab += p * q, aa += p * p, bb += q * q;
    }
    return ab / std::sqrt(aa * bb);
}

/// Of the partials that come with a note: how much they rise where it is, and what three in four of them do not rise by
/// in the other.
struct NewPartials {
    double riseDb = 0.0, otherRisesDb = 0.0;
};

NewPartials newPartials(const std::vector<double>& before, const std::vector<double>& behind,
                        const std::vector<double>& otherBefore, const std::vector<double>& otherBehind)
{
    const double top = *std::ranges::max_element(behind);
    double sum = 0.0, weights = 0.0;
    std::vector<double> there;
    for (std::size_t i = 0; i < behind.size(); ++i) {
        const double over = behind[i] - top + kUnderDb, rise = behind[i] - before[i];
        if (over <= 0.0 || rise <= kRiseDb) continue;
        sum += over * std::min(kMostDb, rise), weights += over;
        there.push_back(within(otherBehind[i] - otherBefore[i]));
    }
    if (there.empty()) return {};
    const auto most = there.begin() + long(0.75 * double(there.size() - 1));
    std::ranges::nth_element(there, most);
    return {sum / weights, *most};
}

} // namespace

HeardPart::HeardPart(std::span<const float> mono, double rateHz)
    : x(mono), candidates(onsetCandidates(mono, rateHz)), onsets(onsetsOf(candidates, mono, rateHz)),
      levels(levelsBehind(mono, onsets, rateHz))
{}

SoundsApart SoundsApart::turned() const
{
    SoundsApart out{-dB, log10};
    for (double& v : out.log10) v = -v;
    return out;
}

SoundsApart soundsApart(const HeardPart& first, const HeardPart& second, const OnsetPairs& pairs)
{
    SoundsApart out;
    std::vector<double> apart;
    const auto middle = [&](auto of) {
        apart.clear();
        for (const auto& [i, j] : pairs) apart.push_back(of(i, j));
        return median(apart);
    };
    out.dB = middle([&](auto i, auto j) { return second.onsets[j].levelDbfs - first.onsets[i].levelDbfs; });
    for (std::size_t b = 0; b < out.log10.size(); ++b)
        out.log10[b] = middle([&](auto i, auto j) { return second.levels[j][b] - first.levels[i][b]; });
    return out;
}

LackClues lackClues(const HeardPart& has, std::size_t onset, const HeardPart& other, double laterS,
                    const SoundsApart& otherBeside, double rateHz)
{
    const double t = has.onsets[onset].timeS, u = t + laterS;
    double best = kNothing;
    for (const OnsetCandidate& c : other.candidates)
        if (std::abs(c.place.timeS - u) < kNearS) best = std::max(best, logOdds(chanceOfNote(c.clues)));
    constexpr double kSameS = 0.02;
    const auto last = std::ranges::lower_bound(other.onsets, u - kSameS, {}, &Onset::timeS);
    const double lastS = last == other.onsets.begin() ? kFarS : u - std::prev(last)->timeS;
    const double ownNextS = onset + 1 < has.onsets.size() ? has.onsets[onset + 1].timeS - t : kFarS;

    // Around the note, and a little further away from where the other's would be.
    constexpr double kAwayS = 0.012, kOthersAwayS = 0.03;
    RealFft fft(fastFftSize(std::size_t(2.0 * kSpectrumS * rateHz)));
    const auto before = spectrumFrom(has.x, rateHz, t - kAwayS - kSpectrumS, fft),
               behind = spectrumFrom(has.x, rateHz, t + kAwayS, fft),
               otherBefore = spectrumFrom(other.x, rateHz, u - kOthersAwayS - kSpectrumS, fft),
               otherBehind = spectrumFrom(other.x, rateHz, u + kOthersAwayS, fft);
    const NewPartials partials = newPartials(before, behind, otherBefore, otherBehind);

    const auto own = levelsBehind(has.x, {{.timeS = t - 0.11}, {.timeS = t}}, rateHz);
    const auto others = levelsBehind(other.x, {{.timeS = u + 0.02}, {.timeS = u - 0.01}}, rateHz);
    constexpr double kUnderLog10 = 2.5, kRisesLog10 = 0.4;
    const double top = *std::ranges::max_element(own[1]);
    double lacks = 0.0, lacksWeights = 0.0, allLacks = 0.0, rings = 0.0, weights = 0.0;
    for (std::size_t b = 0; b < own[1].size(); ++b) {
        const double weight = std::max(0.0, own[1][b] - top + kUnderLog10);
        const double expected = own[1][b] + otherBeside.log10[b];
        const double less = within(10.0 * (std::max(others[0][b], others[1][b]) - expected));
        allLacks += weight * less, weights += weight;
        if (own[1][b] - own[0][b] > kRisesLog10) lacks += weight * less, lacksWeights += weight;
        rings += weight * within(10.0 * (own[0][b] + otherBeside.log10[b] - others[1][b]));
    }
    return {logOdds(has.onsets[onset].chance),
            best,
            std::log2(1.0 + attackSharpDb(other.x, rateHz, u)),
            within(levelDb(other.x, rateHz, u + 0.02, u + 0.08) - levelDb(other.x, rateHz, u - 0.08, u - 0.02)),
            partials.riseDb,
            partials.otherRisesDb,
            alike(behind, otherBehind),
            std::min(lastS, kFarS),
            std::min(ownNextS, kFarS),
            lacksWeights > 0.0 ? lacks / lacksWeights : allLacks / weights,
            rings / weights,
            within(levelDb(other.x, rateHz, u, u + 0.06) - levelDb(has.x, rateHz, t, t + 0.06) - otherBeside.dB)};
}

double chanceOfLack(const LackClues& clues) { return chanceOf(kLackBias, kLackWeights, clues); }

} // namespace gristle::core
