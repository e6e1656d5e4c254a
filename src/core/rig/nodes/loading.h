#pragma once

#include "core/rig/circuit/guitar_circuit.h"
#include "core/rig/node.h"

namespace gristle::core {

/// The circuit that a complete set of the loading node's values describes.
GuitarCircuit guitarCircuitOf(const ParameterValues& values);
/// The one through which the DI was recorded.
GuitarCircuit takenCircuitOf(const ParameterValues& values);

} // namespace gristle::core
