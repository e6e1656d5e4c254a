#include "core/rig/nodes/nodes.h"

namespace gristle::core {

namespace {

NodeType with(NodeType node, const char* group, Character character)
{
    node.group = group;
    node.character = character;
    return node;
}

} // namespace

const std::vector<NodeType>& nodeTypes()
{
    using enum Character;
    static const std::vector<NodeType> all = [] {
        constexpr const char *dry = "the dry DI", *level = "level and clipping",
                             *amplifier = "amplifier and loudspeaker", *tone = "tone", *space = "time and space",
                             *look = "to look at";
        return std::vector<NodeType>{
            with(gainNode(), dry, Filters),          with(polarityNode(), dry, Filters),
            with(shiftNode(), dry, Filters),         with(humCombNode(), dry, Filters),
            with(hissNode(), dry, Follows),          with(loadingNode(), dry, Filters),
            with(gateNode(), dry, Follows),          with(compressorNode(), level, Follows),
            with(limiterNode(), level, Follows),     with(boostNode(), level, Bends),
            with(softClipNode(), level, Bends),      with(hardClipNode(), level, Bends),
            with(fuzzNode(), level, Bends),          with(softDriveNode(), level, Bends),
            with(amplifierNode(), amplifier, Bends), with(circuitAmplifierNode(), amplifier, Bends),
            with(impulseNode(), amplifier, Filters), with(equaliserNode(), tone, Filters),
            with(graphicNode(), tone, Filters),      with(chorusNode(), space, Echoes),
            with(delayNode(), space, Echoes),        with(reverbNode(), space, Echoes),
            with(springNode(), space, Echoes),       with(widenNode(), space, Echoes),
            with(placeNode(), space, Filters),       with(tunerNode(), look, Shows),
            with(probeNode(), look, Shows),
        };
    }();
    return all;
}

} // namespace gristle::core
