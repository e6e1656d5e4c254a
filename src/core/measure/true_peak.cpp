#include "core/measure/true_peak.h"

#include "core/audio/block_stats.h"
#include "core/signal/window.h"
#include "core/units/vectorised.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kStopBandDb = 80.0;
constexpr double kRounding = 1e-5; // of sums of 24 products in single precision

/// The largest |interpolated sample| that starts at x[0 .. count). Taps k and 23 - k are taken together: the half-way
/// phase is symmetric, and the quarter phases are each other's mirror image: even + odd and even - odd. @param count  a
/// multiple of kFloatLane
GRISTLE_VECTORISED
float largestBetween(const float* x, std::size_t count, const TruePeakMeter::TapPair* taps) noexcept
{
    constexpr std::size_t kTaps = TruePeakMeter::kTaps;
    LaneExtremes extremes;
    for (std::size_t i = 0; i < count; i += kFloatLane) {
        FloatLane half{}, even{}, odd{};
        for (std::size_t k = 0; k < kTaps / 2; ++k) {
            FloatLane a, b;
            load(a, x + i + k);
            load(b, x + i + kTaps - 1 - k);
            const FloatLane sum = a + b, difference = a - b;
            half += sum * taps[k].half;
            even += sum * taps[k].even;
            odd += difference * taps[k].odd;
        }
        extremes.take(half);
        extremes.take(even + odd);
        extremes.take(even - odd);
    }
    float out = 0.0f;
    for (std::size_t k = 0; k < kFloatLane; ++k) out = std::max({out, extremes.high[k], -extremes.low[k]});
    return out;
}

/// Taps of the phase at `part` of a sample, unity at DC.
std::vector<double> phaseTaps(double part)
{
    constexpr std::size_t kTaps = TruePeakMeter::kTaps;
    const double beta = kaiserBeta(kStopBandDb);
    std::vector<double> taps(kTaps);
    double sum = 0.0;
    for (std::size_t k = 0; k < kTaps; ++k) {
        const double t = double(k) - (kTaps / 2 - 1.0) - part;
        taps[k] = sinc(t) * kaiserAt(t / (kTaps / 2.0), beta);
        sum += taps[k];
    }
    for (double& tap : taps) tap /= sum;
    return taps;
}

double sumOfSizes(const std::vector<double>& taps)
{
    double sum = 0.0;
    for (const double tap : taps) sum += std::abs(tap);
    return sum;
}

} // namespace

TruePeakMeter::TruePeakMeter(double rateHz) : interpolates_(rateHz < 192000.0), window_(kTaps - 1 + kBlock, 0.0f)
{
    const auto half = phaseTaps(0.5), quarter = phaseTaps(0.25);
    const bool four = rateHz < 96000.0;
    for (std::size_t k = 0; k < kTaps / 2; ++k) {
        taps_[k].half = static_cast<float>(half[k]);
        if (!four) continue;
        taps_[k].even = static_cast<float>(0.5 * (quarter[k] + quarter[kTaps - 1 - k]));
        taps_[k].odd = static_cast<float>(0.5 * (quarter[k] - quarter[kTaps - 1 - k]));
    }
    gain_ = static_cast<float>(std::max(sumOfSizes(half), four ? sumOfSizes(quarter) : 0.0) * (1.0 + kRounding));
}

void TruePeakMeter::push(std::span<const float> mono)
{
    while (!mono.empty()) {
        const std::size_t take = std::min(mono.size(), kBlock - filled_);
        std::copy_n(mono.begin(), take, window_.begin() + long(kTaps - 1 + filled_));
        filled_ += take;
        mono = mono.subspan(take);
        if (filled_ == kBlock) scan();
    }
}

void TruePeakMeter::scan()
{
    const MinMax e = extremesOf(window_);
    const float bound = std::max(e.high, -e.low);
    peak_ = std::max(peak_, bound); // the samples themselves
    if (interpolates_ && bound * gain_ > peak_)
        peak_ = std::max(peak_, largestBetween(window_.data(), kBlock, taps_.data()));
    std::copy_n(window_.begin() + long(kBlock), kTaps - 1, window_.begin());
    filled_ = 0;
}

double TruePeakMeter::finish()
{
    const std::vector<float> tail(kTaps, 0.0f); // the interpolator rings out
    push(tail);
    push(std::span<const float>(std::array<float, kBlock>{}).first(filled_ > 0 ? kBlock - filled_ : 0));
    return double(peak_);
}

} // namespace gristle::core
