#include "core/timing/pitch_match.h"

#include "core/signal/fft.h"
#include "core/signal/window.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kLowHz = 120.0, kHighHz = 5000.0;
constexpr int kBinsASemitone = 6;
constexpr double kFromS = 0.015, kMostS = 0.2, kLeastS = 0.06, kBeforeNextS = 0.005;
constexpr int kShapeBins = 2 * kBinsASemitone; // to each side: what is broader is colour
constexpr int kOffBins = 2;                    // a third of a semitone: strings that are out of tune
constexpr std::size_t kMostNotes = 600;
constexpr double kOctaveAgrees =
    0.3;                            // half of an octave's partials are there as they are; of the same notes 0.1 at most
constexpr double kMostAgree = 0.45; // of the notes; of the same ones 0.56 and more agreed, of others 0.28 at most

std::size_t binCount() { return std::size_t(std::floor(12.0 * kBinsASemitone * std::log2(kHighHz / kLowHz))) + 1; }

/// Peaks over the logarithm of frequency, of length 1; all 0 where nothing stands out.
std::vector<double> peaksOf(std::span<const float> x, double rateHz, RealFft& fft)
{
    const auto window = hannWindow(x.size());
    std::ranges::fill(fft.time(), 0.0f);
    for (std::size_t i = 0; i < x.size(); ++i) fft.time()[i] = float(window[i] * double(x[i]));
    fft.forward();
    const std::size_t bins = binCount();
    std::vector<double> level(bins);
    const double perHz = double(fft.size()) / rateHz;
    double most = 1e-30;
    for (std::size_t k = std::size_t(kLowHz * perHz); k < std::size_t(kHighHz * perHz); ++k)
        most = std::max(most, double(std::norm(fft.spectrum()[k])));
    for (std::size_t i = 0; i < bins; ++i) {
        const double at = kLowHz * std::exp2(double(i) / (12.0 * kBinsASemitone)) * perHz;
        const auto k = std::size_t(at);
        const double part = at - double(k);
        const double power =
            (1.0 - part) * double(std::norm(fft.spectrum()[k])) + part * double(std::norm(fft.spectrum()[k + 1]));
        constexpr double kUnderDb = 1e-6; // 60 dB under the strongest nothing is looked for
        level[i] = std::log10(power + kUnderDb * most);
    }
    std::vector<double> out(bins);
    double norm = 0.0;
    for (std::size_t i = 0; i < bins; ++i) {
        const std::size_t from = i > kShapeBins ? i - kShapeBins : 0, to = std::min(bins, i + kShapeBins + 1);
        double sum = 0.0;
        for (std::size_t j = from; j < to; ++j) sum += level[j];
        out[i] = std::max(0.0, level[i] - sum / double(to - from));
        norm += out[i] * out[i];
    }
    for (double& v : out) v /= std::sqrt(norm) + 1e-12;
    return out;
}

double alikeAt(const std::vector<double>& a, const std::vector<double>& b, int lag)
{
    double sum = 0.0, aa = 1e-12, bb = 1e-12;
    for (int i = std::max(0, -lag); i < int(a.size()) && i + lag < int(b.size()); ++i) {
        const double x = a[std::size_t(i)], y = b[std::size_t(i + lag)];
        sum += x * y, aa += x * x, bb += y * y;
    }
    return sum / std::sqrt(aa * bb);
}

} // namespace

int PitchMatch::semitonesHigher() const
{
    for (const int octave : {-kMostSemitones, kMostSemitones})
        if (votes[std::size_t(octave + kMostSemitones)] >= kOctaveAgrees) return octave;
    const auto most = std::ranges::max_element(votes);
    return *most >= kMostAgree ? int(most - votes.begin()) - kMostSemitones : 0;
}

bool PitchMatch::areSameNotes() const { return areSameNotesBesides({}); }

bool PitchMatch::areSameNotesBesides(const std::vector<PitchStretch>& stretches) const
{
    constexpr double kFewest = 4.0, kLeastShare = 0.33;
    double same = 0.0, octave = 0.0, of = 0.0;
    for (const Vote& v : each)
        if (std::ranges::none_of(stretches, [&](const PitchStretch& s) { return s.holds(v.timeS); }))
            same += v.semitones == 0, octave += std::abs(v.semitones) == kMostSemitones, of += 1.0;
    return octave < kOctaveAgrees * of && of >= std::max(kFewest, kLeastShare * double(each.size())) &&
           same >= kMostAgree * of;
}

std::vector<PitchStretch> stretchesAtAnotherPitch(const PitchMatch& match)
{
    // Of notes at a pitch three in five vote for it and one in ten for none; of the same notes three in five vote for
    // none and few for any other, an octave apart.
    constexpr double kForIt = 3.0, kForItOctave = 1.8, kForNone = -1.8, kForOther = -0.9, kSure = 16.0;
    std::vector<PitchStretch> out;
    std::vector<bool> isTold(match.each.size(), false);
    while (true) {
        double most = kSure;
        std::size_t bestFrom = 0, bestTo = 0;
        int best = 0;
        for (int s = -PitchMatch::kMostSemitones; s <= PitchMatch::kMostSemitones; ++s) {
            if (s == 0) continue;
            double sum = 0.0;
            std::size_t from = 0;
            for (std::size_t i = 0; i < match.each.size(); ++i) {
                const int vote = match.each[i].semitones;
                if (isTold[i]) {
                    sum = 0.0, from = i + 1;
                    continue;
                }
                sum += vote == s   ? (std::abs(s) == PitchMatch::kMostSemitones ? kForItOctave : kForIt)
                       : vote == 0 ? kForNone
                                   : kForOther;
                if (sum <= 0.0) sum = 0.0, from = i + 1;
                if (sum > most) most = sum, bestFrom = from, bestTo = i, best = s;
            }
        }
        if (best == 0) break;
        std::fill(isTold.begin() + long(bestFrom), isTold.begin() + long(bestTo) + 1, true);
        out.push_back({match.each[bestFrom].timeS, match.each[bestTo].timeS, best, bestTo - bestFrom + 1});
    }
    std::ranges::sort(out, {}, &PitchStretch::fromS);
    return out;
}

PitchMatch matchPitches(std::span<const float> first, const std::vector<Onset>& a, std::span<const float> second,
                        const std::vector<Onset>& b, const std::vector<std::pair<std::size_t, std::size_t>>& pairs,
                        double rateHz)
{
    PitchMatch out;
    RealFft fft(fastFftSize(2 * std::size_t(kMostS * rateHz)));
    const auto sounding = [&](std::span<const float> x, const std::vector<Onset>& all, std::size_t k) {
        const double from = all[k].timeS + kFromS;
        const double to = std::min({k + 1 < all.size() ? all[k + 1].timeS - kBeforeNextS : from + kMostS, from + kMostS,
                                    double(x.size()) / rateHz});
        return to - from >= kLeastS ? x.subspan(std::size_t(from * rateHz), std::size_t((to - from) * rateHz))
                                    : std::span<const float>();
    };
    const std::size_t step = pairs.size() / kMostNotes + 1;
    for (std::size_t p = 0; p < pairs.size(); p += step) {
        auto sa = sounding(first, a, pairs[p].first), sb = sounding(second, b, pairs[p].second);
        const std::size_t both = std::min(sa.size(), sb.size());
        if (both == 0) continue;
        const auto pa = peaksOf(sa.first(both), rateHz, fft), pb = peaksOf(sb.first(both), rateHz, fft);
        ++out.notes;
        std::array<double, 2 * PitchMatch::kMostSemitones + 1> here{};
        for (int s = -PitchMatch::kMostSemitones; s <= PitchMatch::kMostSemitones; ++s) {
            double most = 0.0;
            for (int off = -kOffBins; off <= kOffBins; ++off)
                most = std::max(most, alikeAt(pa, pb, s * kBinsASemitone + off));
            here[std::size_t(s + PitchMatch::kMostSemitones)] = most;
        }
        for (std::size_t k = 0; k < here.size(); ++k) out.alike[k] += here[k];
        const auto most = std::size_t(std::ranges::max_element(here) - here.begin());
        out.votes[most] += 1.0;
        out.each.push_back({a[pairs[p].first].timeS, int(most) - PitchMatch::kMostSemitones});
    }
    for (auto* of : {&out.alike, &out.votes})
        for (double& v : *of) v /= double(std::max<std::size_t>(1, out.notes));
    return out;
}

} // namespace gristle::core
