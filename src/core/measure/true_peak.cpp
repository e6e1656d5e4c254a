#include "core/measure/true_peak.h"

#include "core/audio/block_stats.h"
#include "core/signal/window.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kStopBandDb = 80.0;

float largest(std::span<const float> x) noexcept
{
    const MinMax e = extremesOf(x);
    return std::max(e.high, -e.low);
}

} // namespace

TruePeakMeter::TruePeakMeter(double rateHz) : window_(kTaps - 1 + kBlock, 0.0f), work_(kBlock, 0.0f)
{
    const int factor = rateHz < 96000.0 ? 4 : rateHz < 192000.0 ? 2 : 1;
    const double beta = kaiserBeta(kStopBandDb);
    for (int phase = 1; phase < factor; ++phase) {
        std::vector<double> taps(kTaps);
        double sum = 0.0;
        for (std::size_t k = 0; k < kTaps; ++k) {
            const double t = double(k) - (kTaps / 2 - 1.0) - double(phase) / factor;
            taps[k] = sinc(t) * kaiserAt(t / (kTaps / 2.0), beta);
            sum += taps[k];
        }
        std::vector<float> row(kTaps);
        float size = 0.0f;
        for (std::size_t k = 0; k < kTaps; ++k) {
            row[k] = static_cast<float>(taps[k] / sum);
            size += std::abs(row[k]);
        }
        gain_ = std::max(gain_, size);
        phases_.push_back(std::move(row));
    }
}

void TruePeakMeter::push(std::span<const float> mono)
{
    while (!mono.empty()) {
        const std::size_t take = std::min(mono.size(), kBlock - filled_);
        std::copy_n(mono.begin(), take, window_.begin() + long(kTaps - 1 + filled_));
        filled_ += take;
        mono = mono.subspan(take);
        if (filled_ == kBlock) scan(kBlock);
    }
}

void TruePeakMeter::scan(std::size_t count)
{
    const float bound = largest(std::span<const float>(window_.data(), kTaps - 1 + count));
    peak_ = std::max(peak_, bound); // the samples themselves
    if (bound * gain_ > peak_) {
        for (const auto& phase : phases_) {
            const std::span<float> acc(work_.data(), count);
            std::ranges::fill(acc, 0.0f);
            for (std::size_t k = 0; k < kTaps; k += 4) {
                const float a = phase[k], b = phase[k + 1], c = phase[k + 2], d = phase[k + 3];
                const float* const x = window_.data() + k;
                for (std::size_t i = 0; i < count; ++i) acc[i] += a * x[i] + b * x[i + 1] + c * x[i + 2] + d * x[i + 3];
            }
            peak_ = std::max(peak_, largest(acc));
        }
    }
    std::copy_n(window_.begin() + long(count), kTaps - 1, window_.begin());
    filled_ = 0;
}

double TruePeakMeter::finish()
{
    const std::vector<float> tail(kTaps, 0.0f); // the interpolator rings out
    push(tail);
    if (filled_ > 0) scan(filled_);
    return double(peak_);
}

} // namespace gristle::core
