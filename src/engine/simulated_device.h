#pragma once

#include "engine/audio_device.h"

#include <atomic>
#include <thread>
#include <vector>

namespace gristle::engine {

/// An output without hardware: in real time for people, or driven by hand as fast as it can for tests.
class SimulatedDevice final : public AudioDevice {
public:
    enum class Clock { RealTime, Manual };
    SimulatedDevice(double rateHz, std::size_t blockFrames, Clock clock);
    ~SimulatedDevice() override;

    core::Outcome start(AudioSource& source) override;
    void stop() override;
    double rateHz() const noexcept override { return rateHz_; }
    std::string name() const override { return "simulated output (silent)"; }
    bool isSimulated() const noexcept override { return true; }

    /// Manual clock: pulls that many frames in blocks and keeps them in heard(). The calling thread is the audio
    /// thread.
    void advance(std::size_t frames);
    const std::vector<float>& heardLeft() const noexcept { return heard_[0]; }
    const std::vector<float>& heardRight() const noexcept { return heard_[1]; }
    void forget();

private:
    void run(std::stop_token stop);

    double rateHz_;
    std::size_t block_;
    Clock clock_;
    AudioSource* source_ = nullptr;
    std::vector<float> left_, right_;
    std::vector<float> heard_[2];
    std::jthread thread_;
};

} // namespace gristle::engine
