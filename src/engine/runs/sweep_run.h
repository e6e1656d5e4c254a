#pragma once

#include "core/impulse/capture_set.h"
#include "engine/runs/probe.h"

namespace gristle::engine {

struct SweepPlan {
    core::SweepSettings sweep; ///< its rate is the device's
    std::size_t repeats = 2;
    double pauseS = 0.7;      ///< behind each, in which the room dies away
    double levelDbfs = -12.0; ///< of its peak
    OutputSide side = OutputSide::Both;
    std::vector<std::size_t> inputs{0};
    double lengthS = 0.5; ///< of the impulses
};

struct SweepRun {
    core::CapturedSet set;        ///< of the inputs, in their order; gains are what the whole path gives
    std::vector<double> peakDbfs; ///< of each input
    bool isWhole = true;          ///< nothing was lost on the way
    double levelDbfs = 0.0;       ///< that was played
};

/// Plays the sweep over the device and makes an impulse of each input. Blocks for as long as it takes.
/// @error as playAndListen(), core::sweep() and core::captureSet()
core::Result<SweepRun> runSweep(AudioDevice& device, const SweepPlan& plan, const core::Progress& progress = {});

} // namespace gristle::engine
