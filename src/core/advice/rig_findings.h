#pragma once

#include "core/advice/finding.h"
#include "core/mix/figures/rig_ledger.h"
#include "core/rig/starting_points.h"

namespace gristle::core {

/// A stage whose file is not there. @param warning  of the render
Finding bypassedFinding(const std::string& warning, const std::string& subject);

/// What a render tells: rig.missing, rig.clipped, rig.silent_stage, rig.lanes_cancel, file.truncated, file.not_finite,
/// rig.runaway (feedback had to be held), rig.level_moved (the DI hits the rig otherwise than the one that it was
/// dialled in on), rig.pickup_differs (its colour is another).
/// @param di  of the take, where it is known
std::vector<Finding> rigFindings(const RenderReport& report, const RigDocument& rig, const std::optional<DiStamp>& di,
                                 const std::string& subject);

/// rig.noise: how far the noise at rest lies under the playing at the output, and which stage brings it nearest. None
/// where a level at rest is not known. @param rungs  of the whole chain
std::optional<Finding> rigNoiseFinding(const std::vector<Rung>& rungs, const std::string& subject);

/// rig.output_over: the loudest peak passes the full scale of what is written, levels as dBu of a sine. None where it
/// does not. Its target leaves 1 dB.
std::optional<Finding> rigOutputFinding(double peakDbu, double fullScaleDbu, const std::string& subject);

/// rig.start: what to listen for in a rig that began at a starting point, and its controls that matter.
Finding startingPointFinding(const StartingPoint& point);

} // namespace gristle::core
