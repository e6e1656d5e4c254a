#pragma once

#include "core/audio/audio_buffer.h"
#include "engine/rt/hazard_slot.h"
#include "engine/rt/ramp.h"

#include <atomic>
#include <cstdint>
#include <limits>
#include <memory>
#include <vector>

namespace gristle::engine {

/// What sounds while a take is recorded, in frames of the song at the device's rate; 0 is the song's beginning.
struct TransportPlan {
    struct Click {
        std::int64_t frame = 0;
        bool isFirst = false; ///< of its bar: higher
    };
    std::int64_t startFrame = 0;           ///< where it begins; below 0 for a count-in
    std::int64_t loopFrom = 0, loopTo = 0; ///< at loopTo it goes on from loopFrom; equal: it goes on and on
    std::vector<Click> clicks;             ///< in order
    float clickPeak = 0.1f;
    std::shared_ptr<const core::Recording> backing; ///< the earlier layers, both sides; none: nothing
    std::int64_t backingFrom = 0;                   ///< where in the song its first frame is
    float backingGain = 1.0f;
    /// Told after each block which frame was heard `followerLate` frames ago, or kResting.
    std::shared_ptr<std::atomic<std::int64_t>> follower;
    std::int64_t followerLate = 0;
};

/// Runs through a song while a take is recorded: clicks and earlier layers over what else is heard, in step with the
/// recorder to the sample. Control thread: all but begin() and add(), which allocate and wait for nothing.
class TakeTransport {
public:
    static constexpr std::int64_t kResting = std::numeric_limits<std::int64_t>::min(); ///< of a follower: nothing runs
    explicit TakeTransport(double rateHz);
    ~TakeTransport();

    void start(TransportPlan plan); ///< with the next block
    void stop() noexcept { rolling_.store(false); }
    bool isRolling() const noexcept { return rolling_.load(); }
    /// The frame of the recording that came in with the first frame of the run; below 0 before that.
    std::int64_t recordedAt() const noexcept { return recordedAt_.load(); }
    std::int64_t elapsed() const noexcept { return elapsed_.load(); }   ///< frames since then
    std::int64_t position() const noexcept { return position_.load(); } ///< frame of the song
    void setBackingGain(float gain) noexcept { backingGain_.store(gain); }
    void setClickPeak(float peak) noexcept { clickPeak_.store(peak); }

    void begin(std::int64_t recordedFrames) noexcept; ///< before the recorder takes a block that begins with that frame
    void add(float* left, float* right, std::size_t frames) noexcept; ///< the same block

private:
    void backingAt(const TransportPlan& plan, std::int64_t frame, double& left, double& right) const noexcept;
    float clickNow(const TransportPlan& plan) noexcept;

    double rateHz_;
    std::int64_t seam_; ///< frames over which a loop's end goes into its beginning
    HazardSlot<const TransportPlan> plans_;
    std::atomic<bool> rolling_{false};
    std::atomic<std::int64_t> recordedAt_{-1}, elapsed_{0}, position_{0};
    std::atomic<float> backingGain_{1.0f}, clickPeak_{0.1f};

    // audio thread
    SafeRamp gate_;
    std::int64_t at_ = 0;
    std::size_t nextClick_ = 0;
    std::int64_t sinceClick_ = -1; ///< below 0: none sounds
    double clickHz_ = 0.0, shownGain_ = 0.0, gainStep_;
};

} // namespace gristle::engine
