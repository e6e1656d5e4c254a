#include "core/rig/nodes/nodes.h"

namespace gristle::core {

const std::vector<NodeType>& nodeTypes()
{
    static const std::vector<NodeType> all = {
        // the dry DI
        gainNode(),
        polarityNode(),
        shiftNode(),
        humCombNode(),
        hissNode(),
        loadingNode(),
        gateNode(),
        // level and what clips
        compressorNode(),
        limiterNode(),
        boostNode(),
        softClipNode(),
        hardClipNode(),
        fuzzNode(),
        softDriveNode(),
        // amplifier and loudspeaker
        amplifierNode(),
        circuitAmplifierNode(),
        impulseNode(),
        // tone
        equaliserNode(),
        graphicNode(),
        // time and space
        chorusNode(),
        delayNode(),
        reverbNode(),
        springNode(),
        widenNode(),
        placeNode(),
    };
    return all;
}

} // namespace gristle::core
