#pragma once

#include "core/rig/node.h"

namespace gristle::core {

// One function for each node, defined in the file of its name and listed once in registry.cpp.
NodeType amplifierNode();
NodeType delayNode();
NodeType gainNode();
NodeType hissNode();
NodeType humCombNode();
NodeType impulseNode();
NodeType loadingNode();
NodeType placeNode();
NodeType softDriveNode();

} // namespace gristle::core
