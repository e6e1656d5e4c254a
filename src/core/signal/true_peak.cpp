#include "core/signal/true_peak.h"

#include "core/signal/window.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr std::size_t kPhases = 8;
// Near the upper end of the band what lies between samples depends on more than 24 of them. A kernel of 64 sees at most
// (2 / pi) ln(32 / 12) = 0.62 of the largest sample more.
constexpr float kBeyond = 0.9f;
constexpr float kLargestSum = 3.2f; // of a phase's |taps|, up to 64 of them

using Taps = std::array<float, TruePeak::kTaps>;

const std::array<Taps, kPhases - 1>& phases()
{
    static const auto table = [] {
        std::array<Taps, kPhases - 1> out{};
        const double beta = kaiserBeta(80.0);
        for (std::size_t phase = 1; phase < kPhases; ++phase) {
            std::array<double, TruePeak::kTaps> taps{};
            double sum = 0.0;
            for (std::size_t k = 0; k < taps.size(); ++k) {
                const double t = double(k) - (TruePeak::kTaps / 2 - 1.0) - double(phase) / kPhases;
                taps[k] = sinc(t) * kaiserAt(t / (TruePeak::kTaps / 2.0), beta);
                sum += taps[k];
            }
            for (std::size_t k = 0; k < taps.size(); ++k) out[phase - 1][k] = static_cast<float>(taps[k] / sum);
        }
        return out;
    }();
    return table;
}

} // namespace

TruePeak::TruePeak() noexcept { phases(); }

float TruePeak::next(float x, float ceiling) noexcept
{
    history_[at_] = history_[at_ + kTaps] = x;
    at_ = at_ + 1 == kTaps ? 0 : at_ + 1;
    const float* const history = history_.data() + at_; // the oldest first
    float largest = 0.0f;
    for (std::size_t k = 0; k < kTaps; ++k) largest = std::max(largest, std::abs(history[k]));
    if (largest * kLargestSum <= ceiling) return largest;
    float peak = std::max(std::abs(history[kTaps / 2 - 1]), std::abs(history[kTaps / 2]));
    for (const Taps& taps : phases()) {
        float y = 0.0f;
        for (std::size_t k = 0; k < kTaps; ++k) y += taps[k] * history[k];
        peak = std::max(peak, std::abs(y));
    }
    float bend = 0.0f; // second difference over 4: 1 for what alternates, a half at a quarter of the rate
    for (std::size_t k = 1; k + 1 < kTaps; ++k)
        bend = std::max(bend, std::abs(history[k - 1] - 2.0f * history[k] + history[k + 1]));
    return peak + kBeyond * std::max(0.0f, 0.25f * bend - 0.3f * largest);
}

} // namespace gristle::core
