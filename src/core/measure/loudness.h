#pragma once

#include "core/audio/audio_reader.h"
#include "core/signal/biquad.h"
#include "core/units/decibels.h"

#include <optional>
#include <vector>

namespace gristle::core {

struct LoudnessResult {
    std::optional<double> integratedLufs;   ///< none under 0.4 s or where all is below the gate of -70 LUFS
    std::optional<double> momentaryMaxLufs; ///< 400 ms, every 10 ms
    std::optional<double> shortTermMaxLufs; ///< 3 s, every 10 ms
    std::optional<double> rangeLu;          ///< EBU Tech 3342, short-term blocks every second; none under 3 s
};

/// K-weighting filter pair of ITU-R BS.1770-4 for one channel at any rate: the analogue prototypes of the published
/// 48 kHz coefficients, transformed anew for the rate.
class KWeighting {
public:
    explicit KWeighting(double rateHz);
    double step(double x) noexcept { return high_.step(shelf_.step(x)); }
    /// Sum of squares of the weighted samples.
    double energy(std::span<const float> mono) noexcept;

private:
    Biquad shelf_, high_;
};

/// Programme loudness by ITU-R BS.1770-4 and EBU Tech 3341/3342, streamed. Keeps one double for each 10 ms.
class LoudnessMeter {
public:
    /// @param roles  one for each channel: surrounds count 1.41, the low-frequency channel nothing
    LoudnessMeter(double rateHz, const std::vector<ChannelRole>& roles);
    /// All channels of a block, equally long.
    void push(const std::vector<std::span<const float>>& channels);
    LoudnessResult result() const;
    /// Weighted mean square of each whole 10 ms hop, all channels summed: loudness is -0.691 + 10 lg.
    std::span<const double> hops() const noexcept { return hops_; }

    static double toLufs(double meanSquare) noexcept { return -0.691 + powerToDb(meanSquare); }
    static constexpr double kHopS = 0.01;

private:
    std::int64_t hopEnd() const noexcept;

    double rateHz_;
    std::vector<double> weights_;
    std::vector<KWeighting> filters_;
    std::vector<double> hops_;
    double open_ = 0.0;
    std::int64_t frames_ = 0, hopStart_ = 0;
};

/// Integrated loudness of a mono or stereo recording in memory; none where it is too short or silent.
std::optional<double> integratedLoudness(const AudioBuffer& audio, double rateHz);

} // namespace gristle::core
