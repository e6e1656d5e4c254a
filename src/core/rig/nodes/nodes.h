#pragma once

#include "core/rig/node.h"

namespace gristle::core {

// One function for each node, defined in the file of its name and listed once in registry.cpp.
NodeType amplifierNode();
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

} // namespace gristle::core
