#pragma once

#include "core/impulse/placement.h"
#include "core/signal/live_convolver.h"
#include "engine/simulated/fast_noise.h"

#include <memory>
#include <vector>

namespace gristle::engine {

/// A simulated amplifier with its cabinet in a room, and microphones before it: what comes out of the interface drives
/// the amplifier, the loudspeaker bends it a little, and each microphone gives volts with its own and the room's noise.
/// Reads nothing and allocates nothing while it runs.
class CabRoom {
public:
    struct Setup {
        double rateHz = 48000.0;
        core::Setting setting;
        std::string cabinet; ///< its name, for those who look
        std::vector<core::PlacedMicrophone> microphones;
        double volumeDb = -6.0; ///< of the amplifier: full scale of the interface then gives so much under its most
        double mostV = 28.3;    ///< peak, into 8 ohm: 50 W
        /// The loudspeaker, by the voltage over mostV: x + second x^2 - third x^3.
        double second = 0.02, third = 0.05;
        double impulseS = 0.3;
        std::uint32_t seed = 1;
    };
    /// @error as core::placementImpulse
    static core::Result<std::unique_ptr<CabRoom>> make(Setup setup);

    std::size_t microphones() const noexcept { return heard_.size(); }
    const Setup& setup() const noexcept { return setup_; }
    const core::Recording& impulse(std::size_t microphone) const { return impulses_[microphone]; } ///< without noise
    /// What the linear part gives: volts of a microphone for full scale of the interface, times its impulse.
    double voltsOfFullScale(std::size_t microphone) const noexcept;

    /// One frame: `played` in full scale; volts() of all microphones then hold it. Audio thread.
    void process(const float* played, std::size_t frames) noexcept;
    const float* volts(std::size_t microphone) const noexcept { return heard_[microphone].data(); }
    static constexpr std::size_t kMostFrames = 256; ///< of one call

private:
    CabRoom(Setup setup, std::vector<core::Recording> impulses);

    Setup setup_;
    std::vector<core::Recording> impulses_;
    std::vector<core::LiveConvolver> ways_;
    std::vector<double> perVolt_, noiseV_, mostV_; ///< of each microphone
    std::vector<std::vector<float>> heard_;
    std::vector<float> driven_;
    FastNoise noise_;
};

} // namespace gristle::engine
