#pragma once

#include "core/measure/loop_latency.h"
#include "engine/devices/audio_device.h"

#include <stop_token>

namespace gristle::engine {

struct PingWish {
    std::size_t input = 0; ///< channel that the cable comes back on
    double peak = 0.1;     ///< -20 dBFS: monitors may be on
    double longestS = 0.5; ///< the round trip that is still found
};

/// Measures the round trip over a cable from an output to an input: plays a quarter second of noise and finds where it
/// arrives. Starts and stops the device, which must not run. Blocks for about a second.
/// @error OutOfRange where there is no such input; Unsupported where no ping comes back; Cancelled; as
/// AudioDevice::start
core::Result<core::LoopLatency> pingLoop(AudioDevice& device, const PingWish& wish, std::stop_token stop = {});

} // namespace gristle::engine
