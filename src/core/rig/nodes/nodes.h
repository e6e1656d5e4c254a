#pragma once

#include "core/rig/node.h"

namespace gristle::core {

// One function for each node, defined in the file of its name and listed once in registry.cpp.
NodeType amplifierNode();
NodeType circuitAmplifierNode();
NodeType compressorNode();
NodeType delayNode();
NodeType equaliserNode();
NodeType gainNode();
NodeType gateNode();
NodeType hissNode();
NodeType humCombNode();
NodeType impulseNode();
NodeType loadingNode();
NodeType placeNode();
NodeType softDriveNode();

/// A knob from 0 to 10.
inline ParameterSpec dial(const char* key, const char* initial, const char* about)
{
    return {.key = key, .label = key, .min = 0.0, .max = 10.0, .initial = initial, .about = about};
}

} // namespace gristle::core
