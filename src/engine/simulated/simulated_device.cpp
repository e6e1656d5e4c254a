#include "engine/simulated/simulated_device.h"

#include <algorithm>
#include <chrono>

namespace gristle::engine {

SimulatedDevice::SimulatedDevice(double rateHz, std::size_t blockFrames, Clock clock,
                                 std::shared_ptr<SimulatedRoom> room)
    : rateHz_(rateHz), block_(blockFrames), clock_(clock), room_(std::move(room)), left_(blockFrames),
      right_(blockFrames), inputs_(room_ ? room_->inputs() : 0, std::vector<float>(blockFrames))
{
    for (auto& input : inputs_) inputPointers_.push_back(input.data());
}

SimulatedDevice::~SimulatedDevice() { stop(); }

core::Outcome SimulatedDevice::start(AudioSource& player, AudioSink* sink)
{
    stop();
    if (room_ && room_->isGone())
        return core::Error{core::ErrorCode::WriteFailed, name() + ": it is not there any more", "plug it in again"};
    source_ = &player;
    sink_ = sink;
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
    sink_ = nullptr;
}

std::string SimulatedDevice::endedBecause() const
{
    const unsigned hz = room_ ? room_->newRateHz() : 0;
    return hz > 0 ? "was set to " + std::to_string(hz) + " Hz by another program" : AudioDevice::endedBecause();
}

/// What the audio thread does for a block: the inputs hear what was played a block ago.
void SimulatedDevice::block(std::size_t frames) noexcept
{
    if (room_) {
        const bool lost = room_->read(inputPointers_.data(), frames, left_.data(), right_.data());
        if (sink_) sink_->take(inputPointers_.data(), inputs_.size(), frames, lost);
    }
    source_.load()->fill(left_.data(), right_.data(), frames);
}

void SimulatedDevice::run(std::stop_token stop)
{
    flushDenormals();
    const auto period = std::chrono::duration<double>(double(block_) / rateHz_);
    auto next = std::chrono::steady_clock::now();
    while (!stop.stop_requested() && !(room_ && room_->isGone())) {
        block(block_);
        next += std::chrono::duration_cast<std::chrono::steady_clock::duration>(period);
        std::this_thread::sleep_until(next);
    }
}

void SimulatedDevice::advance(std::size_t frames)
{
    while (frames > 0 && source_ && !(room_ && room_->isGone())) {
        const std::size_t n = std::min(frames, block_);
        block(n);
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
