#include "core/signal/oversampler.h"

#include "core/signal/window.h"
#include "core/units/vectorised.h"

#include <algorithm>
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

FullStopHalver::FullStopHalver()
{
    constexpr double kPass = 0.375 / 2.0, kStop = 0.5 / 2.0, kDown = 100.0; // of the higher rate
    const double length = (kDown - 7.95) / (2.285 * 2.0 * std::numbers::pi * (kStop - kPass)) + 1.0;
    const auto quarter =
        static_cast<std::size_t>(std::ceil((length - 1.0) / 4.0)); // 4 m + 1 taps: a whole delay in the lower rate
    const double middle = 2.0 * double(quarter), beta = kaiserBeta(kDown);
    std::vector<double> taps(4 * quarter + 1);
    double sum = 0.0;
    for (std::size_t k = 0; k < taps.size(); ++k) {
        const double t = double(k) - middle;
        taps[k] = (kPass + kStop) * sinc((kPass + kStop) * t) * kaiserAt(t / (middle + 1.0), beta);
        sum += taps[k];
    }
    for (std::size_t k = 0; k < taps.size(); ++k) // symmetric, so that reversing changes nothing
        (k % 2 == 0 ? even_ : odd_).push_back(static_cast<float>(taps[k] / sum));
}

void FullStopHalver::prepare(std::size_t maxFrames)
{
    evenPast_.assign(even_.size() - 1 + maxFrames, 0.0f);
    oddPast_.assign(odd_.size() + maxFrames, 0.0f);
    work_.assign(maxFrames, 0.0f);
}

void FullStopHalver::reset() noexcept
{
    std::ranges::fill(evenPast_, 0.0f);
    std::ranges::fill(oddPast_, 0.0f);
}

void FullStopHalver::down(std::span<const float> in, std::span<float> out) noexcept
{
    const std::size_t n = out.size();
    for (std::size_t i = 0; i < n; ++i) {
        evenPast_[even_.size() - 1 + i] = in[2 * i];
        oddPast_[odd_.size() + i] = in[2 * i + 1]; // seen from the next frame on
    }
    filter(evenPast_.data(), even_.data(), even_.size(), out.data(), n);
    filter(oddPast_.data(), odd_.data(), odd_.size(), work_.data(), n);
    for (std::size_t i = 0; i < n; ++i) out[i] += work_[i];
    std::copy_n(evenPast_.begin() + long(n), even_.size() - 1, evenPast_.begin());
    std::copy_n(oddPast_.begin() + long(n), odd_.size(), oddPast_.begin());
}

namespace {

constexpr double kAttenuationDb = 110.0;
// Transition bands: what folds below half the base rate is stopped; the first one upwards has only images to stop.
constexpr double kFirst = 0.083, kSecond = 0.25, kThird = 0.375;

} // namespace

Oversampler::Oversampler(std::size_t factor)
    : factor_(factor), up1_(kAttenuationDb, kFirst), up2_(kAttenuationDb, kSecond), up3_(kAttenuationDb, kThird),
      down2_(kAttenuationDb, kSecond), down3_(kAttenuationDb, kThird)
{
    assert(factor == 2 || factor == 4 || factor == 8);
    pad_.assign((factor_ - delayInHighest() % factor_) % factor_, 0.0f);
}

std::size_t Oversampler::delayInHighest() const noexcept
{
    std::size_t out = up1_.delay() + down1_.delay();
    if (factor_ >= 4) out = 2 * out + up2_.delay() + down2_.delay();
    if (factor_ >= 8) out = 2 * out + up3_.delay() + down3_.delay();
    return out;
}

std::size_t Oversampler::latency() const noexcept { return (delayInHighest() + pad_.size()) / factor_; }

void Oversampler::prepare(std::size_t maxFrames)
{
    up1_.prepare(maxFrames);
    up2_.prepare(2 * maxFrames);
    up3_.prepare(4 * maxFrames);
    down1_.prepare(maxFrames);
    down2_.prepare(2 * maxFrames);
    down3_.prepare(4 * maxFrames);
    two_.assign(2 * maxFrames, 0.0f);
    four_.assign(4 * maxFrames, 0.0f);
    eight_.assign(8 * maxFrames, 0.0f);
    padWork_.assign(factor_ * maxFrames + pad_.size(), 0.0f);
}

void Oversampler::reset() noexcept
{
    for (HalfBand* band : {&up1_, &up2_, &up3_, &down2_, &down3_}) band->reset();
    down1_.reset();
    std::ranges::fill(pad_, 0.0f);
}

std::span<float> Oversampler::up(std::span<const float> in) noexcept
{
    const std::span<float> two(two_.data(), 2 * in.size()), four(four_.data(), 4 * in.size()),
        eight(eight_.data(), 8 * in.size());
    up1_.up(in, two);
    if (factor_ == 2) return two;
    up2_.up(two, four);
    if (factor_ == 4) return four;
    up3_.up(four, eight);
    return eight;
}

void Oversampler::down(std::span<float> high, std::span<float> out) noexcept
{
    const std::size_t n = high.size();
    std::ranges::copy(pad_, padWork_.begin());
    std::ranges::copy(high, padWork_.begin() + long(pad_.size()));
    std::copy_n(padWork_.begin() + long(n), pad_.size(), pad_.begin());
    const std::span<float> padded(padWork_.data(), n), two(two_.data(), 2 * out.size()),
        four(four_.data(), 4 * out.size());
    if (factor_ == 8) down3_.down(padded, four);
    if (factor_ >= 4) down2_.down(factor_ == 4 ? padded : four, two);
    down1_.down(factor_ == 2 ? padded : two, out);
}

} // namespace gristle::core
