#pragma once

#include "core/audio/audio_buffer.h"
#include "core/measure/loudness.h"
#include "engine/devices/audio_device.h"
#include "engine/rt/hazard_slot.h"
#include "engine/rt/ramp.h"
#include "engine/rt/rig_swap.h"
#include "engine/rt/safety_limiter.h"
#include "engine/rt/spsc_ring.h"

#include <atomic>
#include <memory>
#include <vector>

namespace gristle::engine {

/// One of the things being compared: a mono or stereo recording at the device's rate, and the gain that matches it.
/// With a rig, the recording is the DI, and goes through it as it is played; the rig may be changed meanwhile.
struct Slot {
    std::shared_ptr<const core::Recording> recording;
    float gain = 1.0f;
    std::shared_ptr<RigSwap> rig{};
    double fullScaleV = 1.0, outputScale = 1.0; ///< sample to volts, volts to sample
};

/// What is played: slots of one stretch of music, and the loop over it.
struct Program {
    std::vector<Slot> entries;
    std::size_t loopStart = 0, loopEnd = 0; ///< frames; the loop is [start, end)
};

/// What came out in about 10 ms.
struct MeterFrame {
    float peak[2] = {0.0f, 0.0f};
    double squares[2] = {0.0, 0.0};
    double product = 0.0;
    double weighted = 0.0; ///< K-weighted squares of both sides
    std::uint32_t frames = 0;
    float limiterGain = 1.0f;
    std::uint64_t position = 0; ///< frame of the program
};

/// Somebody who adds to what is played, before the limiter and the meters. Called on the audio thread.
class Overlay {
public:
    virtual ~Overlay() = default;
    virtual void add(float* left, float* right, std::size_t frames) noexcept = 0;
};

/// Plays a program in a gapless loop: slots swapped without a click, start, stop, swap and mono with safe ramps, the
/// limiter last. Control thread: everything but fill(). The audio thread allocates, locks and waits for nothing.
class Player final : public AudioSource {
public:
    explicit Player(double rateHz);
    ~Player() override;

    void setProgram(std::shared_ptr<const Program> program); ///< faded over to; the position is kept where it fits
    void setSlot(std::size_t index) noexcept { slot_.store(index); }
    std::size_t slot() const noexcept { return slot_.load(); }
    void setPlaying(bool on) noexcept { playing_.store(on); }
    bool isPlaying() const noexcept { return playing_.load(); }
    void setMono(bool on) noexcept { mono_.store(on); }
    void seek(std::size_t frame) noexcept { wish_.store(static_cast<std::int64_t>(frame)); }
    bool readMeter(MeterFrame& frame) noexcept { return meters_.pop(frame); }
    double rateHz() const noexcept { return rateHz_; }
    void setOverlay(Overlay* overlay) noexcept { overlay_ = overlay; }  ///< before the stream starts
    std::size_t latency() const noexcept { return limiter_.latency(); } ///< frames, of the limiter

    void fill(float* left, float* right, std::size_t frames) noexcept override; // audio thread

    static constexpr std::size_t kMostFrames = 8192; ///< that a slot's rig is given at once

private:
    /// One voice: a slot of a program, with its own position.
    struct Voice {
        const Slot* entry() const noexcept
        {
            return program && slot < program->entries.size() ? &program->entries[slot] : nullptr;
        }
        const Program* program = nullptr;
        std::size_t slot = 0;
        std::size_t position = 0;
        double level = 1.0; ///< below 1 behind a seam with nothing before the loop
        double gain = -1.0; ///< glides to the slot's where only that changes; negative: not set yet
    };
    void nextFrame(Voice& voice, float& left, float& right) noexcept;
    void render(Voice& voice, std::vector<float> (&out)[2], std::size_t frames) noexcept;
    void fillPart(float* left, float* right, std::size_t frames) noexcept;
    void adopt() noexcept;
    void meter(const float* left, const float* right, std::size_t frames) noexcept;

    double rateHz_;
    Overlay* overlay_ = nullptr;
    std::size_t loopFade_;
    HazardSlot<const Program, 2> programs_;
    std::atomic<std::size_t> slot_{0};
    std::atomic<bool> playing_{false}, mono_{false};
    std::atomic<std::int64_t> wish_{-1};
    SpscRing<MeterFrame> meters_{256};

    // audio thread
    Voice now_, before_;
    std::size_t hold_ = 0; ///< of now_'s program
    std::vector<float> nowOut_[2], beforeOut_[2];
    double gainStep_;
    double fade_ = 1.0, fadeUp_; ///< of now_ against before_
    SafeRamp gate_, side_;
    SafetyLimiter limiter_;
    MeterFrame open_;
    core::KWeighting weighting_[2];
};

static_assert(std::atomic<std::int64_t>::is_always_lock_free);

} // namespace gristle::engine
