#pragma once

#include "core/signal/true_peak.h"

#include <cstddef>
#include <vector>

namespace gristle::engine {

/// Keeps stereo under a true peak of -1 dBTP, whatever comes in. The peak is looked at in eight phases (24 taps each)
/// 0.35 ms ahead, no more, as one who hears himself play waits for it; the gain is the least that the window asks for,
/// smoothed by a mean of its decibels over the window so that it is there in time, held for 12 ms and let go with 80.
/// What has to be turned down far within the window is turned down a little further, as a gain that moves that fast
/// bends what lies between the samples. Transparent below the ceiling but for its delay.
class SafetyLimiter {
public:
    void prepare(double rateHz); ///< allocates
    void process(float* left, float* right, std::size_t frames) noexcept;
    std::size_t latency() const noexcept { return window_ + core::TruePeak::kLate - 1; }
    float leastGain() noexcept; ///< since the last call: how far it had to turn down

private:
    float askFor(float peak) noexcept;

    std::size_t window_ = 0, at_ = 0, hold_ = 0, held_ = 0; ///< held_: frames for which the gain stays
    core::TruePeak peaks_[2];
    std::vector<float> delay_[2];
    std::vector<float> asked_; ///< log2 of the gain that each frame of the window asks for
    std::vector<float> least_; ///< least of the window ending there, for the mean
    float release_ = 0.0f;     ///< log2 of the gain
    float further_ = 0.0f;     ///< of it, what is below what the peak asked for
    float pull_ = 0.0f;
    float leastGain_ = 1.0f;
};

} // namespace gristle::engine
