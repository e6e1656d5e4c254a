#include "engine/rt/safety_limiter.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace gristle::engine {

namespace {

constexpr float kCeiling = 0.87f;         // -1.21 dBFS: under -1 dBTP with what lies between eight phases
constexpr double kWindowS = 0.00035;      // one who hears himself play waits for it, too
constexpr std::size_t kFewestFrames = 12; // of the window, at low rates
constexpr double kHoldS = 0.012; // half a period of the lowest string that is tuned down far: a tone keeps its shape
constexpr float kAsMuch = 0.03f; // log2: the next peak of a tone is hardly ever met at its very top
constexpr double kReleaseS = 0.08;
constexpr float kMost = 1e5f;     // 100 dB over full scale: nobody hears what is lost past it, and floats bear it
constexpr float kFurther = 0.02f; // of what has to be turned down at once; found by trial on random extremes
constexpr float kFurthest = 0.2f; // log2, 1.2 dB

} // namespace

void SafetyLimiter::prepare(double rateHz)
{
    window_ = std::max(kFewestFrames, static_cast<std::size_t>(kWindowS * rateHz));
    hold_ = static_cast<std::size_t>(kHoldS * rateHz);
    held_ = 0;
    pull_ = static_cast<float>(1.0 - std::exp(-1.0 / (kReleaseS * rateHz)));
    at_ = 0;
    for (auto& peak : peaks_) peak.reset();
    for (auto& d : delay_) d.assign(latency(), 0.0f);
    asked_.assign(window_, 0.0f);
    least_.assign(window_, 0.0f);
    release_ = further_ = 0.0f;
    leastGain_ = 1.0f;
}

/// The gain that a peak asks for, as log2, with what is held and let go of earlier ones.
float SafetyLimiter::askFor(float peak) noexcept
{
    float wanted = peak > kCeiling ? std::log2(kCeiling / peak) : 0.0f;
    if (wanted < release_) { // further down at once
        further_ = std::min(kFurthest, further_ + kFurther * (release_ - wanted));
        release_ = wanted - further_;
        held_ = hold_;
    } else if (wanted <= release_ + further_ + kAsMuch) {
        held_ = hold_;
    } else if (held_ > 0) {
        --held_;
    } else {
        release_ -= pull_ * release_;
        further_ -= pull_ * further_;
    }
    return release_;
}

void SafetyLimiter::process(float* left, float* right, std::size_t frames) noexcept
{
    float* const sides[2] = {left, right};
    for (std::size_t i = 0; i < frames; ++i) {
        float newest[2], peak = 0.0f;
        for (std::size_t c = 0; c < 2; ++c) {
            const float given = sides[c][i];
            newest[c] = std::isfinite(given) ? std::clamp(given, -kMost, kMost) : 0.0f; // never to the ears
            peak = std::max(peak, peaks_[c].next(newest[c], kCeiling));
        }
        const std::size_t at = at_ % window_, d = at_ % delay_[0].size();
        ++at_;
        asked_[at] = askFor(peak);
        least_[at] = *std::min_element(asked_.begin(), asked_.end());
        float sum = 0.0f;
        for (const float least : least_) sum += least; // anew each time: a running sum would drift
        const float gain = sum < 0.0f ? std::exp2(sum / float(window_)) : 1.0f;
        leastGain_ = std::min(leastGain_, gain);
        for (std::size_t c = 0; c < 2; ++c) {
            const float delayed = delay_[c][d];
            delay_[c][d] = newest[c];
            sides[c][i] = std::clamp(delayed * gain, -kCeiling, kCeiling);
        }
    }
}

float SafetyLimiter::leastGain() noexcept { return std::exchange(leastGain_, 1.0f); }

} // namespace gristle::engine
