#include "engine/runs/loop_ping.h"

#include "engine/runs/probe.h"

namespace gristle::engine {

core::Result<core::LoopLatency> pingLoop(AudioDevice& device, const PingWish& wish, std::stop_token stop)
{
    using core::Error, core::ErrorCode;
    ProbeWish probe;
    probe.signal = core::latencyPing(device.rateHz(), wish.peak);
    probe.inputs = {wish.input};
    probe.listenFrames = probe.signal.size() + std::size_t(wish.longestS * device.rateHz());
    const auto take = playAndListen(device, probe, {stop, {}});
    if (!take) return take.error();
    const auto found = core::findPing(take->heard[0], probe.signal);
    if (!found)
        return Error{ErrorCode::Unsupported,
                     device.name() + ": the ping did not come back on input " + std::to_string(wish.input + 1),
                     "put a cable from an output to that input and turn both up a little"};
    return *found;
}

} // namespace gristle::engine
