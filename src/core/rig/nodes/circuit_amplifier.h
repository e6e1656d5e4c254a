#pragma once

#include "core/rig/circuit/voices.h"
#include "core/rig/node.h"

namespace gristle::core {

/// A voice of the amplifier at work: its netlist solved at a raised rate (192 kHz or near it for playing, 384 kHz for
/// rendering). Each channel has an amplifier of its own.
std::unique_ptr<NodeProcessor> circuitAmplifier(Voice voice, const AmplifierControls& controls, const Sag& sag,
                                                double outputGain);

} // namespace gristle::core
