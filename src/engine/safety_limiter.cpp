#include "engine/safety_limiter.h"

#include "core/signal/window.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace gristle::engine {

namespace {

constexpr float kCeiling = 0.885f;   // -1.06 dBFS: a little under -1 dBTP, for what lies between four phases
constexpr double kWindowS = 0.00035; // one who hears himself play waits for it, too
constexpr double kHoldS = 0.012; // half a period of the lowest string that is tuned down far: a tone keeps its shape
constexpr float kAsMuch = 1.02f; // the next peak of a tone is hardly ever met at its very top
constexpr double kReleaseS = 0.08;

} // namespace

void SafetyLimiter::prepare(double rateHz)
{
    window_ = static_cast<std::size_t>(kWindowS * rateHz);
    hold_ = static_cast<std::size_t>(kHoldS * rateHz);
    held_ = 0;
    pull_ = static_cast<float>(1.0 - std::exp(-1.0 / (kReleaseS * rateHz)));
    at_ = historyAt_ = 0;
    for (auto& h : history_) h.assign(2 * kTaps, 0.0f);
    for (auto& d : delay_) d.assign(latency(), 0.0f);
    asked_.assign(window_, 1.0f);
    least_.assign(window_, 1.0f);
    sum_ = double(window_);
    release_ = leastGain_ = 1.0f;
    phases_.clear();
    const double beta = core::kaiserBeta(80.0);
    for (int phase = 1; phase < 4; ++phase) {
        std::vector<double> taps(kTaps);
        double sum = 0.0;
        for (std::size_t k = 0; k < kTaps; ++k) {
            const double t = double(k) - (kTaps / 2 - 1.0) - phase / 4.0;
            taps[k] = core::sinc(t) * core::kaiserAt(t / (kTaps / 2.0), beta);
            sum += taps[k];
        }
        for (const double tap : taps) phases_.push_back(static_cast<float>(tap / sum));
    }
}

float SafetyLimiter::peakOf(const float* history) const noexcept
{
    float peak = std::abs(history[kTaps / 2 - 1]);
    for (std::size_t p = 0; p < 3; ++p) {
        float y = 0.0f;
        for (std::size_t k = 0; k < kTaps; ++k) y += phases_[p * kTaps + k] * history[k];
        peak = std::max(peak, std::abs(y));
    }
    return peak;
}

void SafetyLimiter::process(float* left, float* right, std::size_t frames) noexcept
{
    float* const sides[2] = {left, right};
    for (std::size_t i = 0; i < frames; ++i) {
        float peak = 0.0f;
        for (std::size_t c = 0; c < 2; ++c) {
            float x = sides[c][i];
            if (!std::isfinite(x)) x = 0.0f; // never to the ears
            history_[c][historyAt_] = history_[c][historyAt_ + kTaps] = x;
        }
        historyAt_ = historyAt_ + 1 == kTaps ? 0 : historyAt_ + 1;
        for (std::size_t c = 0; c < 2; ++c) peak = std::max(peak, peakOf(history_[c].data() + historyAt_));
        const float wanted = peak > kCeiling ? kCeiling / peak : 1.0f;
        if (wanted <= kAsMuch * release_)
            held_ = hold_;
        else if (held_ > 0)
            --held_;
        else
            release_ += pull_ * (1.0f - release_);
        release_ = std::min(release_, wanted);
        asked_[at_ % window_] = release_;
        const float least = *std::min_element(asked_.begin(), asked_.end());
        float& slot = least_[at_ % window_];
        sum_ += double(least) - double(slot);
        slot = least;
        ++at_;
        const auto gain = static_cast<float>(sum_ / double(window_));
        leastGain_ = std::min(leastGain_, gain);
        const std::size_t d = at_ % delay_[0].size();
        for (std::size_t c = 0; c < 2; ++c) {
            const float newest = history_[c][historyAt_ == 0 ? kTaps - 1 : historyAt_ - 1];
            const float delayed = delay_[c][d];
            delay_[c][d] = newest;
            sides[c][i] = delayed * gain;
        }
    }
}

float SafetyLimiter::leastGain() noexcept { return std::exchange(leastGain_, 1.0f); }

} // namespace gristle::engine
