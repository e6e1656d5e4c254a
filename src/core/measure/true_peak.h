#pragma once

#include <array>
#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

/// True peak after ITU-R BS.1770-4, annex 2: the largest sample of the signal at four times the rate (twice from
/// 96 kHz on, as it is from 192 kHz on), by a Kaiser-windowed polyphase interpolator of 24 taps a phase (stop band 80
/// dB). Exact pruning: no interpolated sample passes the largest input sample times the phase's sum of |taps|, so
/// blocks that cannot hold a new maximum are not interpolated.
class TruePeakMeter {
public:
    explicit TruePeakMeter(double rateHz);
    void push(std::span<const float> mono);
    /// Linear, full scale 1.0; 0 for silence. Ends the stream.
    double finish();

    static constexpr std::size_t kTaps = 24;
    /// Taps k and 23 - k of the phases between the samples: half way, and the mirrored phases at a quarter and three
    /// quarters as even and odd part (0 where only the half is asked for).
    struct TapPair {
        float half = 0.0f, even = 0.0f, odd = 0.0f;
    };

private:
    static constexpr std::size_t kBlock = 512;
    void scan();

    bool interpolates_;
    std::array<TapPair, kTaps / 2> taps_;
    float gain_ = 1.0f;         ///< largest sum of |taps| of a phase
    std::vector<float> window_; ///< kTaps - 1 past samples, then a block
    std::size_t filled_ = 0;
    float peak_ = 0.0f;
};

} // namespace gristle::core
