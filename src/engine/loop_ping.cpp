#include "engine/loop_ping.h"

#include "engine/simulated_device.h"

#include <algorithm>
#include <chrono>

namespace gristle::engine {

namespace {

/// Plays the ping once the stream has settled and keeps what comes in from that block on.
class Probe final : public AudioSource, public AudioSink {
public:
    Probe(std::vector<float> ping, std::size_t input, std::size_t settle, std::size_t listen)
        : ping_(std::move(ping)), heard_(listen, 0.0f), input_(input), settle_(settle)
    {}
    void take(const float* const* inputs, std::size_t channels, std::size_t frames, bool) noexcept override
    {
        if (played_ < settle_) return;
        const std::size_t from = played_ - settle_; // of the same block's output
        for (std::size_t i = 0; i < frames && from + i < heard_.size(); ++i)
            heard_[from + i] = input_ < channels ? inputs[input_][i] : 0.0f;
        if (from + frames >= heard_.size()) done_.store(true);
    }
    void fill(float* left, float* right, std::size_t frames) noexcept override
    {
        if (played_ < settle_) settle_ = std::max(settle_, played_ + frames); // begins with a block
        for (std::size_t i = 0; i < frames; ++i) {
            const std::size_t at = played_ + i;
            left[i] = right[i] = at >= settle_ && at - settle_ < ping_.size() ? ping_[at - settle_] : 0.0f;
        }
        played_ += frames;
    }
    bool isDone() const noexcept { return done_.load(); }
    const std::vector<float>& heard() const noexcept { return heard_; }
    const std::vector<float>& ping() const noexcept { return ping_; }

private:
    std::vector<float> ping_, heard_;
    std::size_t input_, settle_, played_ = 0;
    std::atomic<bool> done_{false};
};

} // namespace

core::Result<core::LoopLatency> pingLoop(AudioDevice& device, const PingWish& wish, std::stop_token stop)
{
    using core::Error, core::ErrorCode;
    if (wish.input >= device.inputs())
        return Error{ErrorCode::OutOfRange, device.name() + ": it has no input " + std::to_string(wish.input + 1),
                     "choose one of its " + std::to_string(device.inputs())};
    const double rate = device.rateHz();
    auto ping = core::latencyPing(rate, wish.peak);
    const std::size_t listen = ping.size() + std::size_t(wish.longestS * rate);
    Probe probe(std::move(ping), wish.input, std::size_t(0.2 * rate), listen);
    if (const auto started = device.start(probe, &probe); !started) return started.error();
    const auto longest =
        std::chrono::steady_clock::now() + std::chrono::duration<double>(2.0 + 2.0 * double(listen) / rate);
    auto* simulated = dynamic_cast<SimulatedDevice*>(&device);
    while (!probe.isDone() && device.isRunning() && !stop.stop_requested() &&
           std::chrono::steady_clock::now() < longest) {
        if (simulated && simulated->clock() == SimulatedDevice::Clock::Manual)
            simulated->advance(4096);
        else
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
    }
    device.stop();
    if (stop.stop_requested()) return Error{ErrorCode::Cancelled, "ping: stopped", ""};
    if (!probe.isDone())
        return Error{ErrorCode::WriteFailed, device.name() + ": it stopped while the ping ran",
                     "check that it runs, then try again"};
    const auto found = core::findPing(probe.heard(), probe.ping());
    if (!found)
        return Error{ErrorCode::Unsupported,
                     device.name() + ": the ping did not come back on input " + std::to_string(wish.input + 1),
                     "put a cable from an output to that input and turn both up a little"};
    return *found;
}

} // namespace gristle::engine
