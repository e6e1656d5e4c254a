#pragma once

#include "core/units/decibels.h"

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace gristle::core {

/// A VU meter after IEC 60268-17: the rectified average through second-order ballistics that reach 99 % of a step in
/// 300 ms and overshoot by 1.25 %. Readings are in dBFS AES17 as a steady sine would give: a full-scale sine reads 0,
/// Gaussian noise about 1.05 dB below its RMS. DC is taken out (one pole at 0.5 Hz, started at the mean of the first
/// half second). One reading every 10 ms.
class VuMeter {
public:
    explicit VuMeter(double rateHz);
    void push(std::span<const float> mono);
    void finish(); ///< reads what is held back of a stream shorter than half a second
    /// Power of the reading at the end of each whole 10 ms hop: dBFS = 10 lg. 0 in silence.
    std::span<const float> readings() const noexcept { return readings_; }
    /// The highest reading at any sample, as dBFS; -inf in silence.
    double maxDbfs() const noexcept;

    static constexpr double kHopS = 0.01;

private:
    void run(std::span<const float> mono);

    double rateHz_;
    double b_, a1_, a2_; ///< needle: impulse-invariant second order, unity at DC
    double y1_ = 0.0, y2_ = 0.0;
    double dc_ = 0.0, dcPull_;
    double highest_ = 0.0;
    bool settled_ = false;
    std::vector<float> head_;
    std::vector<float> readings_;
    std::int64_t frames_ = 0;
    std::int64_t nextHop_;
    std::int64_t hops_ = 0;
};

/// What the accents reach: the 95th percentile of readings (powers). Of a few bars it says the same as of a whole part,
/// where a median wanders with how many notes are muted; what is compared with a part in hand is compared by this.
/// @return  none where there is no reading over silence
std::optional<double> loudReadingDbfs(std::vector<float> powers);

} // namespace gristle::core
