#pragma once

#include "core/units/progress.h"
#include "engine/devices/audio_device.h"

#include <vector>

namespace gristle::engine {

enum class OutputSide { Both, Left, Right };

struct ProbeWish {
    std::vector<float> signal; ///< played once, when the stream has settled
    OutputSide side = OutputSide::Both;
    std::vector<std::size_t> inputs{0};
    std::size_t listenFrames = 0; ///< from the signal's first frame on
};

struct ProbeTake {
    std::vector<std::vector<float>> heard; ///< of each input, from the block on in which the signal begins
    bool isWhole = true;                   ///< nothing was lost (an xrun) while it was played
};

/// Plays a signal over a device and keeps what comes in meanwhile. Starts and stops the device, which must not run.
/// Blocks for as long as it takes. @error OutOfRange where there is no such input; WriteFailed where the device stops
/// by itself; Cancelled, and then the output fades within 20 ms; as AudioDevice::start
core::Result<ProbeTake> playAndListen(AudioDevice& device, const ProbeWish& wish, const core::Progress& progress = {});

} // namespace gristle::engine
