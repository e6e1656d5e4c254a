#pragma once

#include "core/rig/compiled_rig.h"
#include "engine/player.h"
#include "engine/recorder.h"

namespace gristle::engine {

/// One way in which the guitarist hears himself: an input, through a rig or dry, at a place.
struct LiveVoice {
    std::size_t input = 0;                    ///< channel of the device
    std::shared_ptr<core::CompiledRig> rig;   ///< compiled live, at the device's rate; none: dry
    double fullScaleV = 1.0, outputScale = 1.0; ///< sample to volts, volts to sample
    float left = 1.0f, right = 1.0f;
};
using LiveProgram = std::vector<LiveVoice>;

/// All that the audio thread does for a block: inputs to the recorder, the player's output, and over it what comes in,
/// through the voices of a program. Programs are swapped through silence, with safe ramps, and the sum has a limiter of
/// its own. Control thread: everything but take() and fill().
class LiveChain final : public AudioSource, public AudioSink {
public:
    static constexpr std::size_t kMostFrames = 8192;
    LiveChain(Player& player, Recorder& recorder, double rateHz);
    ~LiveChain() override;

    void setProgram(LiveProgram program); ///< an empty one: silence
    void setListening(bool on) noexcept { listening_.store(on); }
    bool isListening() const noexcept { return listening_.load(); }
    void setGain(float gain) noexcept { gain_.store(gain); }
    /// A click every so many frames, from now on; 0: none.
    void setClick(std::size_t everyFrames) noexcept { click_.store(everyFrames); }
    /// Frames from input to output, besides the device's own buffers: the slowest voice, and the limiter.
    std::size_t latency() const noexcept;

    void take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept override;
    void fill(float* left, float* right, std::size_t frames) noexcept override;

private:
    void collect();
    void addVoice(LiveVoice& voice, std::size_t frames) noexcept;
    void addClick(float* left, float* right, std::size_t frames) noexcept;

    Player& player_;
    Recorder& recorder_;
    std::vector<std::shared_ptr<LiveProgram>> alive_; ///< control thread
    std::atomic<LiveProgram*> wanted_{nullptr}, using_{nullptr};
    std::atomic<bool> listening_{false};
    std::atomic<float> gain_{1.0f};
    std::atomic<std::size_t> click_{0};

    // audio thread
    std::vector<std::vector<float>> heard_; ///< the block's inputs
    std::size_t heardFrames_ = 0;
    std::vector<float> voice_[2], sum_[2];
    SafeRamp gate_;
    double shownGain_ = 0.0, gainStep_, rateHz_;
    std::size_t sinceClick_ = 0;
    SafetyLimiter limiter_;
};

} // namespace gristle::engine
