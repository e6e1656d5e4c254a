#include "core/signal/oversampler.h"

#include "core/signal/minimum_phase.h"
#include "core/signal/window.h"
#include "core/units/vectorised.h"

#include <algorithm>
#include <array>
#include <cassert>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

/// acc[i] = sum over k of taps[k] x[i + k]. The outer loop over taps lets the compiler use whole vectors.
GRISTLE_VECTORISED
void filter(const float* x, const float* taps, std::size_t count, float* acc, std::size_t n) noexcept
{
    for (std::size_t i = 0; i < n; ++i) acc[i] = 0.0f;
    std::size_t k = 0;
    for (; k + 8 <= count; k += 8) {
        const float a = taps[k], b = taps[k + 1], c = taps[k + 2], d = taps[k + 3];
        const float e = taps[k + 4], f = taps[k + 5], g = taps[k + 6], h = taps[k + 7];
        const float* const p = x + k;
        for (std::size_t i = 0; i < n; ++i)
            acc[i] += ((a * p[i] + b * p[i + 1]) + (c * p[i + 2] + d * p[i + 3])) +
                      ((e * p[i + 4] + f * p[i + 5]) + (g * p[i + 6] + h * p[i + 7]));
    }
    for (; k < count; ++k)
        for (std::size_t i = 0; i < n; ++i) acc[i] += taps[k] * x[i + k];
}

} // namespace

HalfBand::HalfBand(double attenuationDb, double transition)
{
    // Kaiser's length for the attenuation and transition, taken up to 4 m - 1 so that the ends are not zeros.
    const double length = (attenuationDb - 7.95) / (2.285 * 2.0 * std::numbers::pi * transition) + 1.0;
    const auto m = static_cast<std::size_t>(std::ceil((length + 1.0) / 4.0));
    const double beta = kaiserBeta(attenuationDb);
    branch_.resize(2 * m);
    double sum = 0.0;
    std::vector<double> taps(branch_.size());
    for (std::size_t k = 0; k < taps.size(); ++k) {
        const double t = 2.0 * double(k) - (2.0 * double(m) - 1.0); // odd distances from the middle
        taps[k] = 0.5 * sinc(t / 2.0) * kaiserAt(t / (2.0 * double(m)), beta);
        sum += taps[k];
    }
    for (std::size_t k = 0; k < taps.size(); ++k) branch_[k] = static_cast<float>(taps[k] * 0.5 / sum);
}

void HalfBand::prepare(std::size_t maxFrames)
{
    history_.assign(branch_.size() - 1 + maxFrames, 0.0f);
    other_.assign(branch_.size() / 2 + maxFrames, 0.0f);
    work_.assign(maxFrames, 0.0f);
}

void HalfBand::reset() noexcept
{
    std::ranges::fill(history_, 0.0f);
    std::ranges::fill(other_, 0.0f);
}

void HalfBand::up(std::span<const float> in, std::span<float> out) noexcept
{
    const std::size_t past = branch_.size() - 1;
    const std::size_t half = branch_.size() / 2;
    std::ranges::copy(in, history_.begin() + long(past));
    const std::span<float> odd(work_.data(), in.size());
    filter(history_.data(), branch_.data(), branch_.size(), odd.data(), odd.size());
    for (std::size_t i = 0; i < in.size(); ++i) {
        out[2 * i] = 2.0f * odd[i];
        out[2 * i + 1] = history_[half + i]; // the middle tap, 1/2, doubled
    }
    std::copy_n(history_.begin() + long(in.size()), past, history_.begin());
}

void HalfBand::down(std::span<const float> in, std::span<float> out) noexcept
{
    const std::size_t past = branch_.size() - 1;
    const std::size_t half = branch_.size() / 2;
    for (std::size_t i = 0; i < out.size(); ++i) {
        history_[past + i] = in[2 * i];
        other_[half + i] = in[2 * i + 1];
    }
    // The filtered branch takes even samples, the middle tap odd ones: together a delay of 2 half - 1, as upwards.
    filter(history_.data(), branch_.data(), branch_.size(), out.data(), out.size());
    for (std::size_t i = 0; i < out.size(); ++i) out[i] += 0.5f * other_[i];
    std::copy_n(history_.begin() + long(out.size()), past, history_.begin());
    std::copy_n(other_.begin() + long(out.size()), half, other_.begin());
}

PolyphaseFir::PolyphaseFir(std::span<const float> taps, std::size_t times) : phases_(times)
{
    double sum = 0.0;
    for (std::size_t k = 0; k < taps.size(); ++k) {
        phases_[k % times].taps.push_back(taps[k]);
        delay_ += double(k) * double(taps[k]);
        sum += double(taps[k]);
    }
    delay_ /= sum;
    for (Phase& phase : phases_) std::ranges::reverse(phase.taps);
}

void PolyphaseFir::prepare(std::size_t maxFrames)
{
    for (Phase& phase : phases_) phase.past.assign(phase.taps.size() + maxFrames, 0.0f);
    work_.assign(maxFrames, 0.0f);
}

void PolyphaseFir::reset() noexcept
{
    for (Phase& phase : phases_) std::ranges::fill(phase.past, 0.0f);
}

void PolyphaseFir::up(std::span<const float> in, std::span<float> out) noexcept
{
    const std::size_t times = phases_.size(), n = in.size();
    const std::size_t past = phases_[0].taps.size() - 1; // the others have as many taps or one less
    float* const x = phases_[0].past.data();
    std::ranges::copy(in, x + past);
    for (std::size_t p = 0; p < times; ++p) {
        const auto& taps = phases_[p].taps;
        filter(x + (past + 1 - taps.size()), taps.data(), taps.size(), work_.data(), n);
        for (std::size_t i = 0; i < n; ++i) out[times * i + p] = float(times) * work_[i];
    }
    std::copy_n(x + n, past, x);
}

void PolyphaseFir::down(std::span<const float> in, std::span<float> out) noexcept
{
    const std::size_t times = phases_.size(), n = out.size();
    for (std::size_t p = 0; p < times; ++p) {
        // What comes p samples before a frame stands in the frame before, but for p = 0.
        auto& [taps, past] = phases_[p];
        const std::size_t kept = p == 0 ? taps.size() - 1 : taps.size();
        for (std::size_t i = 0; i < n; ++i) past[kept + i] = in[times * i + (times - p) % times];
        filter(past.data(), taps.data(), taps.size(), p == 0 ? out.data() : work_.data(), n);
        if (p > 0)
            for (std::size_t i = 0; i < n; ++i) out[i] += work_[i];
        std::copy_n(past.begin() + long(n), kept, past.begin());
    }
}

namespace {

constexpr double kAttenuationDb = 110.0;
/// Transition bands of the doublings: what folds below half the base rate is stopped; the first one upwards has only
/// images to stop.
constexpr double kTransitions[] = {0.083, 0.25, 0.375, 0.4375, 0.46875, 0.484375};
constexpr std::size_t kDelaying = 2; // doublings whose delay counts
constexpr std::size_t kAtOnce = 7;   // behind a doubling: less of a raise than three more, for what costs by the sample
constexpr std::size_t kAtOnceTaps = 16 * kAtOnce;

/// Linear-phase lowpass (Kaiser), 4 m + 1 taps: a whole delay in the lower rate. @param pass, stop  of the rate
std::vector<float> lowPassTaps(double pass, double stop, double attenuationDb)
{
    const double length = (attenuationDb - 7.95) / (2.285 * 2.0 * std::numbers::pi * (stop - pass)) + 1.0;
    const auto quarter = static_cast<std::size_t>(std::ceil((length - 1.0) / 4.0));
    const double middle = 2.0 * double(quarter), beta = kaiserBeta(attenuationDb);
    std::vector<double> taps(4 * quarter + 1);
    double sum = 0.0;
    for (std::size_t k = 0; k < taps.size(); ++k) {
        const double t = double(k) - middle;
        taps[k] = (pass + stop) * sinc((pass + stop) * t) * kaiserAt(t / (middle + 1.0), beta);
        sum += taps[k];
    }
    std::vector<float> out;
    for (const double tap : taps) out.push_back(static_cast<float>(tap / sum));
    return out;
}

/// Stops all of what would fold: pass band to 0.375 of the lower rate, stop band from 0.5 on, 100 dB down. Behind a
/// nonlinear stage, where there is something to fold.
std::vector<float> fullStopTaps(double times) { return lowPassTaps(0.375 / times, 0.5 / times, 100.0); }
/// The first raise upwards.
std::vector<float> imageStopTaps(double times)
{
    return lowPassTaps((0.5 - kTransitions[0]) / times, (0.5 + kTransitions[0]) / times, kAttenuationDb);
}

/// Seven times from twice the base rate: passes half the base rate and what the doubling leaves over it, stops images.
std::vector<float> atOnceTaps()
{
    constexpr double kPass = 0.25 / kAtOnce, kStop = 0.715 / kAtOnce; // of the higher rate
    auto taps = lowPassTaps(kPass, kStop, kAttenuationDb);
    assert(taps.size() <= kAtOnceTaps);
    taps.resize(kAtOnceTaps); // as many in each phase
    return taps;
}

/// The same magnitudes, as early as they can be.
std::vector<float> earliest(const std::vector<float>& taps)
{
    constexpr double kRate = 96000.0; // any: only parts of it count
    const auto gainAt = [&](double hz) {
        // Horner's scheme by hand: there are a million steps.
        const double c = std::cos(2.0 * std::numbers::pi * hz / kRate),
                     d = -std::sin(2.0 * std::numbers::pi * hz / kRate);
        double re = 0.0, im = 0.0;
        for (std::size_t k = taps.size(); k-- > 0;) {
            const double next = re * c - im * d + double(taps[k]);
            im = re * d + im * c;
            re = next;
        }
        return std::hypot(re, im);
    };
    auto out = minimumPhase(gainAt, kRate, taps.size());
    double sum = 0.0;
    for (const float tap : out) sum += double(tap);
    for (float& tap : out) tap = static_cast<float>(double(tap) / sum);
    return out;
}

/// The taps for playing, worked out once.
struct QuickTaps {
    std::vector<float> down = earliest(fullStopTaps(2.0));
    std::vector<float> upAtOnce = earliest(imageStopTaps(kAtOnce)), downAtOnce = earliest(fullStopTaps(kAtOnce));
    std::array<std::vector<float>, kDelaying> band;
    QuickTaps()
    {
        for (std::size_t k = 0; k < kDelaying; ++k)
            band[k] = earliest(lowPassTaps(0.25 - kTransitions[k] / 2.0, 0.25 + kTransitions[k] / 2.0, kAttenuationDb));
    }
    static const QuickTaps& all()
    {
        static const QuickTaps taps;
        return taps;
    }
};

} // namespace

Oversampler::Oversampler(std::size_t factor, Phase phase, std::size_t inside) : factor_(factor), inside_(inside)
{
    assert(factor == 2 || factor == 4 || factor == 7 || factor == 8 || factor == 14 || factor == 16 || factor == 32 ||
           factor == 64);
    static const std::vector<float> fullStop = fullStopTaps(2.0), atOnce = atOnceTaps();
    for (std::size_t k = 0, raised = 1; raised < factor; ++k) {
        const bool isAtOnce = factor == raised * kAtOnce;
        if (isAtOnce && k == 0) {
            const bool isLeast = phase == Phase::Least;
            up_.emplace_back(PolyphaseFir(isLeast ? QuickTaps::all().upAtOnce : imageStopTaps(kAtOnce), kAtOnce));
            down_.emplace_back(PolyphaseFir(isLeast ? QuickTaps::all().downAtOnce : fullStopTaps(kAtOnce), kAtOnce));
        } else if (isAtOnce) {
            up_.emplace_back(PolyphaseFir(atOnce, kAtOnce));
            down_.emplace_back(PolyphaseFir(atOnce, kAtOnce));
        } else if (phase == Phase::Least && k < kDelaying) {
            const QuickTaps& quick = QuickTaps::all();
            up_.emplace_back(PolyphaseFir(quick.band[k]));
            down_.emplace_back(PolyphaseFir(k == 0 ? quick.down : quick.band[k]));
        } else {
            up_.emplace_back(HalfBand(kAttenuationDb, kTransitions[k]));
            if (k == 0)
                down_.emplace_back(PolyphaseFir(fullStop));
            else
                down_.emplace_back(HalfBand(kAttenuationDb, kTransitions[k]));
        }
        times_.push_back(isAtOnce ? kAtOnce : 2);
        raised *= times_.back();
    }
    pad_.assign((factor - delayInHighest() % factor) % factor, 0.0f);
}

std::size_t Oversampler::delayInHighest() const noexcept
{
    double out = 0.0;
    for (std::size_t k = 0; k < up_.size(); ++k) {
        out *= double(times_[k]);
        for (const Band* band : {&up_[k], &down_[k]})
            out += std::visit([](const auto& b) { return double(b.delay()); }, *band);
    }
    return inside_ + static_cast<std::size_t>(std::llround(out));
}

std::size_t Oversampler::latency() const noexcept { return (delayInHighest() + pad_.size()) / factor(); }

void Oversampler::prepare(std::size_t maxFrames)
{
    work_.resize(up_.size());
    std::size_t frames = maxFrames;
    for (std::size_t k = 0; k < up_.size(); ++k) {
        for (Band* band : {&up_[k], &down_[k]}) std::visit([&](auto& b) { b.prepare(frames); }, *band);
        frames *= times_[k];
        work_[k].assign(frames, 0.0f);
    }
    padWork_.assign(factor() * maxFrames + pad_.size(), 0.0f);
}

void Oversampler::reset() noexcept
{
    for (auto* bands : {&up_, &down_})
        for (Band& band : *bands) std::visit([](auto& b) { b.reset(); }, band);
    std::ranges::fill(pad_, 0.0f);
}

std::span<float> Oversampler::up(std::span<const float> in) noexcept
{
    std::span<float> high;
    for (std::size_t k = 0; k < up_.size(); ++k) {
        const std::span<const float> low = k == 0 ? in : std::span<const float>(high);
        high = {work_[k].data(), times_[k] * low.size()};
        std::visit([&](auto& band) { band.up(low, high); }, up_[k]);
    }
    return high;
}

void Oversampler::down(std::span<float> high, std::span<float> out) noexcept
{
    const std::size_t n = high.size();
    std::ranges::copy(pad_, padWork_.begin());
    std::ranges::copy(high, padWork_.begin() + long(pad_.size()));
    std::copy_n(padWork_.begin() + long(n), pad_.size(), pad_.begin());
    std::span<float> now(padWork_.data(), n);
    for (std::size_t k = down_.size(); k-- > 0;) {
        const std::span<float> low = k == 0 ? out : std::span<float>(work_[k - 1].data(), now.size() / times_[k]);
        std::visit([&](auto& band) { band.down(now, low); }, down_[k]);
        now = low;
    }
}

} // namespace gristle::core
