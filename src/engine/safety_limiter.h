#pragma once

#include <cstddef>
#include <vector>

namespace gristle::engine {

/// Keeps stereo under a true peak of -1 dBTP. The peak is looked at in four phases (24 taps each, as the true-peak
/// meter) 0.35 ms ahead, no more, as one who hears himself play waits for it; the gain is the least that the window
/// asks for, smoothed by a mean over the window so that it is there in time, held for 12 ms and let go with 80.
/// Transparent below the ceiling but for its delay.
class SafetyLimiter {
public:
    void prepare(double rateHz); ///< allocates
    void process(float* left, float* right, std::size_t frames) noexcept;
    std::size_t latency() const noexcept { return window_ + kTaps / 2; }
    float leastGain() noexcept; ///< since the last call: how far it had to turn down

private:
    static constexpr std::size_t kTaps = 24;
    float peakOf(const float* history) const noexcept;

    std::size_t window_ = 0, at_ = 0, hold_ = 0, held_ = 0; ///< held_: frames for which the gain stays
    std::vector<float> history_[2];                         ///< kTaps samples twice, so that a window is contiguous
    std::size_t historyAt_ = 0;
    std::vector<float> delay_[2];
    std::vector<float> asked_; ///< gain that each frame of the window asks for
    std::vector<float> least_; ///< least of the window ending there, for the mean
    double sum_ = 0.0;
    float release_ = 1.0f, pull_ = 0.0f;
    float leastGain_ = 1.0f;
    std::vector<float> phases_;
};

} // namespace gristle::engine
