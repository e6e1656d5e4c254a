#include "core/rig/nodes/nodes.h"

namespace gristle::core {

const std::vector<NodeType>& nodeTypes()
{
    static const std::vector<NodeType> all = {
        gainNode(),       humCombNode(),   hissNode(),      loadingNode(),          gateNode(),
        compressorNode(), softDriveNode(), amplifierNode(), circuitAmplifierNode(), impulseNode(),
        equaliserNode(),  delayNode(),     placeNode(),
    };
    return all;
}

} // namespace gristle::core
