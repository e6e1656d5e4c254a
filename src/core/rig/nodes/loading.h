#pragma once

#include "core/rig/circuit/guitar_circuit.h"
#include "core/rig/node.h"

namespace gristle::core {

/// The circuit that a complete set of the loading node's values describes.
GuitarCircuit guitarCircuitOf(const ParameterValues& values);
/// What 0 stands for in a control that then takes the typical value of the pickup's kind, in the control's unit; none
/// for other controls and other nodes.
std::optional<double> typicalValue(const NodeType& type, const ParameterValues& values, const std::string& key);
/// The one through which the DI was recorded.
GuitarCircuit takenCircuitOf(const ParameterValues& values);

} // namespace gristle::core
