#pragma once

#include "core/rig/compiled_rig.h"
#include "engine/rt/hazard_slot.h"
#include "engine/rt/player.h"
#include "engine/rt/recorder.h"
#include "engine/rt/rig_swap.h"
#include "engine/rt/take_transport.h"

#include <span>

namespace gristle::engine {

/// One way in which the guitarist hears himself: an input, through a rig or dry, at a place.
struct LiveVoice {
    std::size_t input = 0;                      ///< channel of the device
    std::shared_ptr<RigSwap> rig;               ///< compiled live, at the device's rate; none: dry
    double fullScaleV = 1.0, outputScale = 1.0; ///< sample to volts, volts to sample
    float left = 1.0f, right = 1.0f;
};
using LiveProgram = std::vector<LiveVoice>;

/// What becomes of the inputs: to the recorder, and over what is played to the ear, through the voices of a program.
/// Programs are swapped through silence, with safe ramps; the player's limiter and meters come after. Control thread:
/// everything but take() and add().
class LiveChain final : public Overlay, public AudioSink {
public:
    static constexpr std::size_t kMostFrames = 8192;
    LiveChain(Recorder& recorder, double rateHz);
    ~LiveChain() override;

    void setProgram(LiveProgram program); ///< an empty one: silence
    void setListening(bool on) noexcept { listening_.store(on); }
    bool isListening() const noexcept { return listening_.load(); }
    void setGain(float gain) noexcept { gain_.store(gain); }
    /// The samples of one input as they come, for looking at them live; what nobody fetches is dropped. One reader.
    void setTap(std::size_t input) noexcept { tapInput_.store(input); }
    std::size_t readTap(std::span<float> out) noexcept;
    /// A steady sine to both outputs, for calibration; amplitude 0: none. Faded in and out.
    void setTone(double hz, float amplitude) noexcept { toneHz_.store(hz), tone_.store(amplitude); }
    /// Clicks and earlier layers while a take is recorded.
    TakeTransport& transport() noexcept { return transport_; }
    /// Frames from input to output, besides the device's own buffers: the slowest voice.
    std::size_t latency() const noexcept;

    void take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept override;
    void add(float* left, float* right, std::size_t frames) noexcept override;

private:
    void addVoice(LiveVoice& voice, std::size_t frames) noexcept;
    void addTone(float* left, float* right, std::size_t frames) noexcept;

    Recorder& recorder_;
    HazardSlot<LiveProgram> programs_;
    std::atomic<bool> listening_{false};
    std::atomic<float> gain_{1.0f}, tone_{0.0f};
    std::atomic<double> toneHz_{220.0};
    std::atomic<std::size_t> tapInput_{0};
    SpscRing<float> tap_{1u << 16};
    TakeTransport transport_;

    // audio thread
    std::vector<std::vector<float>> heard_; ///< the block's inputs
    std::size_t heardFrames_ = 0;
    std::vector<float> voice_[2], sum_[2];
    SafeRamp gate_;
    double shownGain_ = 0.0, gainStep_, rateHz_;
    double toneLevel_ = 0.0, tonePhase_ = 0.0;
};

} // namespace gristle::engine
