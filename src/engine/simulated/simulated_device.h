#pragma once

#include "engine/devices/audio_device.h"
#include "engine/simulated/simulated_room.h"

#include <atomic>
#include <memory>
#include <thread>
#include <vector>

namespace gristle::engine {

/// An interface without hardware: in real time for people, or driven by hand as fast as it can for tests. Without a
/// room it has no inputs.
class SimulatedDevice final : public AudioDevice {
public:
    enum class Clock { RealTime, Manual };
    SimulatedDevice(double rateHz, std::size_t blockFrames, Clock clock, std::shared_ptr<SimulatedRoom> room = nullptr);
    ~SimulatedDevice() override;

    using AudioDevice::start;
    core::Outcome start(AudioSource& player, AudioSink* sink) override;
    void stop() override;
    double rateHz() const noexcept override { return rateHz_; }
    std::string name() const override { return room_ ? "simulated interface" : "simulated output (silent)"; }
    std::size_t inputs() const noexcept override { return room_ ? room_->inputs() : 0; }
    std::size_t bufferFrames() const noexcept override { return block_; }
    std::size_t latencyFrames() const noexcept override { return room_ ? block_ + room_->cableFrames() : 0; }
    bool isRunning() const noexcept override { return source_ && !(room_ && room_->isGone()); }
    std::string endedBecause() const override;
    Clock clock() const noexcept { return clock_; }
    void setClock(Clock clock) noexcept { clock_ = clock; } ///< while it is stopped
    SimulatedRoom* room() const noexcept { return room_.get(); }
    bool isSimulated() const noexcept override { return true; }

    /// Manual clock: pulls that many frames in blocks and keeps them in heard(). The calling thread is the audio
    /// thread.
    void advance(std::size_t frames);
    const std::vector<float>& heardLeft() const noexcept { return heard_[0]; }
    const std::vector<float>& heardRight() const noexcept { return heard_[1]; }
    void forget();

private:
    void run(std::stop_token stop);
    void block(std::size_t frames) noexcept;

    double rateHz_;
    std::size_t block_;
    Clock clock_;
    std::shared_ptr<SimulatedRoom> room_;
    std::atomic<AudioSource*> source_{nullptr};
    AudioSink* sink_ = nullptr;
    std::vector<float> left_, right_;
    std::vector<std::vector<float>> inputs_;
    std::vector<float*> inputPointers_;
    std::vector<float> heard_[2];
    std::jthread thread_;
};

} // namespace gristle::engine
