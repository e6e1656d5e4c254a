#pragma once

#include "core/rig/rig_document.h"

namespace gristle::core {

/// What was done to get from one rig to another, a phrase for each thing: "drive: drive 10 to 20 dB", "delay put in
/// behind amplifier", "gate taken out", "eq moved", "in lane 2 of lanes: ...", "output 8 to 6 dB". Empty where both
/// sound the same. Stages find each other by type, in order. Cost: the product of both chains' lengths.
std::vector<std::string> rigDifference(const RigDocument& before, const RigDocument& after);

} // namespace gristle::core
