#include "core/measure/tuner.h"

#include "core/signal/fft.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <complex>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kLowestHz = 28.0, kHighestHz = 1300.0; // a little beyond what is promised
constexpr double kWindowS = 0.3, kHopS = 0.1, kShortestS = 0.2;
constexpr double kClear = 0.8;    // of the autocorrelation at one period: below that it is no single string
constexpr double kSilence = 1e-6; // RMS
constexpr double kWeakDb = 50.0;  // a partial that far below the strongest says nothing
constexpr double kHighestPartialHz = 6000.0;

/// The period in samples; none where nothing repeats.
std::optional<double> periodOf(std::span<const float> x, double rateHz)
{
    const std::size_t n = x.size(), size = std::bit_ceil(2 * n);
    RealFft fft(size);
    std::ranges::fill(fft.time(), 0.0f);
    std::ranges::copy(x, fft.time().begin());
    fft.forward();
    for (auto& bin : fft.spectrum()) bin = std::norm(bin);
    fft.inverse();
    const auto correlation = fft.time();
    // Normalised by the energy of the two parts that are compared, from which the ends fall away one by one.
    double energy = 0.0;
    for (const float v : x) energy += 2.0 * double(v) * double(v);
    const double scale = 0.5 * energy / double(correlation[0]);
    const auto longest = std::min(n - 2, std::size_t(rateHz / kLowestHz));
    std::vector<double> alike(longest + 2);
    for (std::size_t lag = 0; lag < alike.size(); ++lag) {
        alike[lag] = energy > 0.0 ? 2.0 * scale * double(correlation[lag]) / energy : 0.0;
        const double head = double(x[lag]), tail = double(x[n - 1 - lag]);
        energy -= head * head + tail * tail;
    }
    // The first of the high peaks between zero crossings: later ones are multiples of the period.
    std::size_t lag = 1;
    while (lag <= longest && alike[lag] > 0.0) ++lag;
    std::vector<std::size_t> peaks;
    for (; lag <= longest; ++lag) {
        if (alike[lag] <= 0.0 || double(lag) < rateHz / kHighestHz) continue;
        if (alike[lag] >= alike[lag - 1] && alike[lag] > alike[lag + 1]) peaks.push_back(lag);
    }
    if (peaks.empty()) return std::nullopt;
    constexpr double kAsGood = 0.93;
    const double highest = alike[*std::ranges::max_element(peaks, {}, [&](std::size_t p) { return alike[p]; })];
    if (highest < kClear) return std::nullopt;
    const std::size_t at = *std::ranges::find_if(peaks, [&](std::size_t p) { return alike[p] >= kAsGood * highest; });
    const double a = alike[at - 1], b = alike[at], c = alike[at + 1];
    return double(at) + 0.5 * (a - c) / (a - 2.0 * b + c);
}

/// Four cosines; it and its first three derivatives vanish at the ends. Side lobes 83 dB down and falling fast.
struct Window {
    std::vector<double> value, slope; ///< slope for each sample
    explicit Window(std::size_t n)
    {
        constexpr std::array<double, 4> kTerms{0.338946, -0.481973, 0.161054, -0.018027};
        const double turn = 2.0 * std::numbers::pi / double(n);
        value.assign(n, 0.0);
        slope.assign(n, 0.0);
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t k = 0; k < kTerms.size(); ++k) {
                const double angle = turn * double(k) * (double(i) + 0.5);
                value[i] += kTerms[k] * std::cos(angle);
                slope[i] -= kTerms[k] * turn * double(k) * std::sin(angle);
            }
    }
};

struct Partial {
    int number;
    double hz, amplitude;
};

/// The partial that sounds near a frequency.
Partial partialNear(std::span<const float> x, const Window& window, double rateHz, int number, double hz)
{
    constexpr int kRounds = 3; // the first looks a little beside it, where neighbours weigh more
    double amplitude = 0.0;
    for (int round = 0; round < kRounds; ++round) {
        const std::complex<double> turn = std::polar(1.0, -2.0 * std::numbers::pi * hz / rateHz);
        std::complex<double> at = 1.0, sum = 0.0, sloped = 0.0;
        for (std::size_t i = 0; i < x.size(); ++i, at *= turn) {
            const std::complex<double> v = double(x[i]) * at;
            sum += window.value[i] * v;
            sloped += window.slope[i] * v;
        }
        amplitude = std::abs(sum);
        if (amplitude == 0.0) break;
        const double by = -(sloped / sum).imag() * rateHz / (2.0 * std::numbers::pi);
        hz += by;
        if (std::abs(by) < 1e-5 * hz) break;
    }
    return {number, hz, amplitude};
}

/// f_0^2 and B of (f_n / n)^2 = f_0^2 + f_0^2 B n^2 by weighted least squares.
struct Law {
    double squared = 0.0, stiffness = 0.0, stiffnessDoubt = 1.0, doubtCents = 0.0;
    double at(int n) const { return n * std::sqrt(squared * (1.0 + stiffness * n * n)); }
};
Law lawOf(const std::vector<Partial>& partials)
{
    constexpr double kStiffest = 2e-3;
    double strongest = 0.0;
    for (const Partial& p : partials) strongest = std::max(strongest, p.amplitude);
    // What a neighbour or noise does to a partial is a frequency, so it weighs less in a higher one.
    const auto weight = [&](const Partial& p) {
        constexpr double kStrong = 0.1;
        const double size = std::min(1.0, p.amplitude / strongest / kStrong);
        return size * size * p.number * p.number;
    };
    double w = 0.0, wx = 0.0, wy = 0.0, wxx = 0.0, wxy = 0.0;
    for (const Partial& p : partials) {
        const double x = p.number * p.number, y = p.hz * p.hz / x, by = weight(p);
        w += by, wx += by * x, wy += by * y, wxx += by * x * x, wxy += by * x * y;
    }
    Law law;
    const double spread = w * wxx - wx * wx;
    const double slope = partials.size() > 2 && spread > 0.0 ? (w * wxy - wx * wy) / spread : 0.0;
    law.squared = (wy - slope * wx) / w;
    law.stiffness = std::clamp(slope / law.squared, 0.0, kStiffest);
    if (law.stiffness * law.squared != slope) law.squared = wy / (w + law.stiffness * wx);
    double misses = 0.0, squares = 0.0;
    for (const Partial& p : partials) {
        const double off =
            p.hz * p.hz / (p.number * p.number) - law.squared * (1.0 + law.stiffness * p.number * p.number);
        squares += weight(p) * off * off;
        const double cents = 1200.0 * std::log2(p.hz / law.at(p.number));
        misses += weight(p) * cents * cents;
    }
    law.doubtCents = std::sqrt(misses / w / double(partials.size()));
    if (partials.size() > 2 && spread > 0.0)
        law.stiffnessDoubt = std::sqrt(squares / double(partials.size() - 2) * w / spread) / law.squared;
    return law;
}

} // namespace

std::optional<Pitch> pitchOf(std::span<const float> mono, double rateHz)
{
    if (double(mono.size()) < kShortestS * rateHz) return std::nullopt;
    std::vector<float> x(mono.begin(), mono.end());
    double mean = 0.0, power = 0.0;
    for (const float v : x) mean += double(v) / double(x.size());
    for (float& v : x) {
        v -= float(mean);
        power += double(v) * double(v) / double(x.size());
    }
    if (std::sqrt(power) < kSilence) return std::nullopt;
    const auto period = periodOf(x, rateHz);
    if (!period) return std::nullopt;

    const Window window(x.size());
    Law law{rateHz / *period * (rateHz / *period)};
    std::vector<Partial> partials;
    // From the lowest on, as where the higher ones lie depends on the law through the lower.
    for (const int most : {3, 5, 8, 12}) {
        std::vector<Partial> found;
        double strongest = 0.0;
        for (int n = 1; n <= most && law.at(n) < std::min(kHighestPartialHz, 0.45 * rateHz); ++n) {
            found.push_back(partialNear(x, window, rateHz, n, law.at(n)));
            strongest = std::max(strongest, found.back().amplitude);
        }
        // What is weak, or ran away to a neighbour, is left out.
        std::erase_if(found, [&](const Partial& p) {
            constexpr double kAstrayCents = 25.0;
            return p.amplitude < strongest * std::pow(10.0, -kWeakDb / 20.0) || p.hz <= 0.0 ||
                   std::abs(1200.0 * std::log2(p.hz / law.at(p.number))) > kAstrayCents;
        });
        if (found.empty()) return std::nullopt;
        if (found.size() == partials.size() && most > 3) break;
        partials = std::move(found);
        law = lawOf(partials);
    }
    // Strings of a chord repeat together as slowly as one far below them all, which does not sound.
    constexpr double kSoundsDb = -30.0, kAsideCents = 8.0;
    double strongest = 0.0;
    for (const Partial& p : partials) strongest = std::max(strongest, p.amplitude);
    const Partial& first = partials.front();
    if (first.number != 1 || first.amplitude < strongest * std::pow(10.0, kSoundsDb / 20.0) ||
        std::abs(1200.0 * std::log2(first.hz / law.at(1))) > kAsideCents)
        return std::nullopt;
    return Pitch{law.at(1), law.stiffness, law.stiffnessDoubt, law.doubtCents};
}

NearestNote nearestNote(double hz, double referenceHz)
{
    static constexpr std::array<const char*, 12> kNames{"C",  "C#", "D",  "D#", "E",  "F",
                                                        "F#", "G",  "G#", "A",  "A#", "B"};
    constexpr int kA4 = 57; // semitones from C0
    const double semitones = kA4 + 12.0 * std::log2(hz / referenceHz);
    const int nearest = int(std::lround(semitones)), octave = int(std::floor(nearest / 12.0));
    return {kNames[std::size_t(nearest - 12 * octave)] + std::to_string(octave), 100.0 * (semitones - nearest)};
}

std::vector<PitchMoment> pitchesOver(std::span<const float> mono, double rateHz)
{
    constexpr double kQuietDb = 40.0;      // under the loudest window nothing is looked for
    constexpr double kDoubtfulCents = 3.0; // a change within the window
    const auto frames = std::size_t(kWindowS * rateHz), hop = std::size_t(kHopS * rateHz);
    std::vector<double> powers;
    for (std::size_t at = 0; at + frames <= mono.size(); at += hop) {
        double power = 0.0;
        for (const float v : mono.subspan(at, frames)) power += double(v) * double(v);
        powers.push_back(power);
    }
    std::vector<PitchMoment> out;
    if (powers.empty()) return out;
    const double least = std::ranges::max(powers) * std::pow(10.0, -kQuietDb / 10.0);
    for (std::size_t k = 0; k < powers.size(); ++k) {
        if (powers[k] <= least) continue;
        if (const auto pitch = pitchOf(mono.subspan(k * hop, frames), rateHz);
            pitch && pitch->doubtCents < kDoubtfulCents)
            out.push_back({(double(k * hop) + 0.5 * double(frames)) / rateHz, *pitch});
    }
    return out;
}

} // namespace gristle::core
