#pragma once

#include "core/rig/circuit/guitar_circuit.h"
#include "engine/rt/hazard_slot.h"
#include "engine/simulated/cab_room.h"
#include "engine/simulated/fast_noise.h"

#include <atomic>
#include <cmath>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

namespace gristle::engine {

/// What comes into the simulated interface: a player who performs over and over, in volts, the preamp in steps of a
/// decibel, self-noise that grows with gain, hum that depends on where the body turns, a loopback cable, a converter
/// that clips, and faults on demand. With a guitar, the performance is what its magnet gives, and the circuit with its
/// controls, cable and the input's impedance stands between. Settings may change while it runs; read() is for the audio
/// thread and allocates nothing.
class SimulatedRoom {
public:
    struct Setup {
        double rateHz = 48000.0;
        std::size_t inputs = 2;
        std::vector<float> performanceV; ///< what the guitar gives on input 1, repeated; empty: nobody plays
        std::optional<core::GuitarCircuit> guitar;
        double fullScaleDbu = 12.0;    ///< at a gain of 0 dB
        double inputNoiseDbu = -104.0; ///< of the preamp, referred to its input
        double converterNoiseDbfs = -112.0;
        double humDbu = -78.0; ///< at the worst angle, referred to the input
        double mainsHz = 50.02;
        double quietAngleDeg = 70.0;    ///< there the hum is 20 dB less
        std::size_t loopbackFrames = 0; ///< from output to input 2, 0: no cable
        double loopbackFraction = 0.0;  ///< of a sample, besides
        std::uint32_t seed = 1;
    };
    explicit SimulatedRoom(Setup setup);

    // one control thread: these work on the performance
    void setPerformance(std::vector<float> volts); ///< from its beginning
    void setGuitar(const core::GuitarCircuit& guitar);
    void setHighImpedance(bool on); ///< the input's switch: 1 megohm, or the 10 kilohms of a line input
    const std::optional<core::GuitarCircuit>& guitar() const noexcept { return setup_.guitar; }
    bool isHighImpedance() const noexcept;
    /// An amplifier at the output, its microphones at the inputs from `firstInput` on, through preamps of `gainDb`.
    void setCab(std::unique_ptr<CabRoom> cab, std::size_t firstInput, double gainDb);
    const CabRoom* cab() const noexcept { return cabs_.empty() ? nullptr : cabs_.back().room.get(); }
    std::size_t firstMicrophone() const noexcept { return cabs_.empty() ? 0 : cabs_.back().firstInput; }
    /// What sample an impulse of microphone i of 1 gives for a sample of 1 that is played: the path's gain.
    double cabGain(std::size_t microphone) const noexcept;

    // any thread
    void startOver() noexcept { startOver_.store(true); } ///< the next block begins the performance
    /// He plays along with a transport that tells him what he hears; the performance begins with the song.
    std::shared_ptr<std::atomic<std::int64_t>> follower() const noexcept { return songFrame_; }
    void setGainDb(double db) noexcept { gainDb_.store(std::round(db)); } ///< whole decibels, as the knob clicks
    double gainDb() const noexcept { return gainDb_.load(); }
    void setAngleDeg(double degrees) noexcept { angle_.store(degrees); }
    double angleDeg() const noexcept { return angle_.load(); }
    void setPlaying(bool on) noexcept { playing_.store(on); }
    bool isPlaying() const noexcept { return playing_.load(); }
    void setPadDb(double db) noexcept { padDb_.store(db); }
    double padDb() const noexcept { return padDb_.load(); }
    void setSwapped(bool on) noexcept { swapped_.store(on); }
    bool isSwapped() const noexcept { return swapped_.load(); }
    void setSilent(bool on) noexcept { silent_.store(on); } ///< the plug is pulled
    bool isSilent() const noexcept { return silent_.load(); }
    void loseOnce() noexcept { lose_.store(true); }     ///< the next block follows an xrun
    void unplugDevice() noexcept { gone_.store(true); } ///< the device itself is lost
    void changeRate(unsigned hz) noexcept               ///< another program sets it: streams at the old one end
    {
        newRateHz_.store(hz);
        gone_.store(true);
    }
    unsigned newRateHz() const noexcept { return newRateHz_.load(); } ///< 0: not changed

    std::size_t inputs() const noexcept { return setup_.inputs; }
    double rateHz() const noexcept { return setup_.rateHz; }
    std::size_t cableFrames() const noexcept { return setup_.loopbackFrames; }
    bool isGone() const noexcept { return gone_.load(); }

    /// Fills the inputs for `frames`; what was played (both sides' sum) goes into the loopback cable. @return true
    /// where samples were lost before this block
    bool read(float* const* inputs, std::size_t frames, const float* playedLeft, const float* playedRight) noexcept;

private:
    using Samples = std::vector<float>;
    struct Cab { ///< with its preamps
        std::unique_ptr<CabRoom> room;
        std::size_t firstInput = 0;
        double perVolt = 1.0; ///< full scale
    };
    void readPart(float* const* inputs, std::size_t from, std::size_t frames, const float* left,
                  const float* right) noexcept;
    void publish();
    const Samples& inHand() noexcept;

    Setup setup_;
    std::atomic<double> gainDb_{0.0}, angle_{0.0}, padDb_{0.0};
    std::atomic<bool> playing_{true}, swapped_{false}, silent_{false}, lose_{false}, gone_{false}, startOver_{false};
    std::atomic<unsigned> newRateHz_{0};
    HazardSlot<const Samples> plays_;
    std::vector<Cab> cabs_; ///< control thread: the last one is heard; those before it may still be
    std::atomic<Cab*> cab_{nullptr};

    // audio thread
    std::size_t at_ = 0;
    std::uint64_t frame_ = 0;
    FastNoise noise_;
    std::shared_ptr<std::atomic<std::int64_t>> songFrame_;
    std::vector<float> cable_; ///< ring of what was played
    std::size_t cableAt_ = 0;
    std::vector<float> toAmplifier_;
    std::vector<double> sinc_; ///< of the fraction of a sample
};

} // namespace gristle::engine
