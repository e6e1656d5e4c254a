#include "engine/simulated_device.h"

#include <algorithm>
#include <chrono>

namespace gristle::engine {

SimulatedDevice::SimulatedDevice(double rateHz, std::size_t blockFrames, Clock clock)
    : rateHz_(rateHz), block_(blockFrames), clock_(clock), left_(blockFrames), right_(blockFrames)
{}

SimulatedDevice::~SimulatedDevice() { stop(); }

core::Outcome SimulatedDevice::start(AudioSource& source)
{
    stop();
    source_ = &source;
    if (clock_ == Clock::RealTime) thread_ = std::jthread([this](std::stop_token stop) { run(stop); });
    return core::Done{};
}

void SimulatedDevice::stop()
{
    if (thread_.joinable()) {
        thread_.request_stop();
        thread_.join();
    }
    source_ = nullptr;
}

void SimulatedDevice::run(std::stop_token stop)
{
    flushDenormals();
    const auto period = std::chrono::duration<double>(double(block_) / rateHz_);
    auto next = std::chrono::steady_clock::now();
    while (!stop.stop_requested()) {
        source_->fill(left_.data(), right_.data(), block_);
        next += std::chrono::duration_cast<std::chrono::steady_clock::duration>(period);
        std::this_thread::sleep_until(next);
    }
}

void SimulatedDevice::advance(std::size_t frames)
{
    while (frames > 0 && source_) {
        const std::size_t n = std::min(frames, block_);
        source_->fill(left_.data(), right_.data(), n);
        heard_[0].insert(heard_[0].end(), left_.begin(), left_.begin() + long(n));
        heard_[1].insert(heard_[1].end(), right_.begin(), right_.begin() + long(n));
        frames -= n;
    }
}

void SimulatedDevice::forget()
{
    for (auto& side : heard_) side.clear();
}

} // namespace gristle::engine
