#pragma once

#include "core/rig/node.h"

namespace gristle::core {

// One function for each node, defined in the file of its name and listed once in registry.cpp.
NodeType amplifierNode();
NodeType boostNode();
NodeType chorusNode();
NodeType circuitAmplifierNode();
NodeType compressorNode();
NodeType delayNode();
NodeType equaliserNode();
NodeType fuzzNode();
NodeType gainNode();
NodeType gateNode();
NodeType graphicNode();
NodeType hardClipNode();
NodeType hissNode();
NodeType humCombNode();
NodeType impulseNode();
NodeType limiterNode();
NodeType loadingNode();
NodeType placeNode();
NodeType polarityNode();
NodeType tunerNode();
NodeType probeNode();
NodeType reverbNode();
NodeType shiftNode();
NodeType softClipNode();
NodeType softDriveNode();
NodeType springNode();
NodeType widenNode();

using MadeNode = Result<std::unique_ptr<NodeProcessor>>;
template<typename Node, typename... Values> MadeNode madeNode(Values&&... values)
{
    return std::unique_ptr<NodeProcessor>(std::make_unique<Node>(std::forward<Values>(values)...));
}

/// A knob from 0 to 10.
inline ParameterSpec dial(const char* key, const char* initial, const char* about)
{
    return {.key = key, .label = key, .min = 0.0, .max = 10.0, .initial = initial, .about = about};
}

/// A number in a unit; from above 0 over more than a decade, its scale is logarithmic, but for decibels.
ParameterSpec numberSpec(std::string key, std::string unit, double min, double max, std::string initial,
                         std::string about);
inline ParameterSpec milliseconds(std::string key, double min, double max, std::string initial, std::string about)
{
    return numberSpec(std::move(key), "ms", min, max, std::move(initial), std::move(about));
}
inline ParameterSpec hertz(std::string key, double min, double max, std::string initial, std::string about)
{
    return numberSpec(std::move(key), "Hz", min, max, std::move(initial), std::move(about));
}
inline ParameterSpec decibels(std::string key, double min, double max, std::string initial, std::string about)
{
    return numberSpec(std::move(key), "dB", min, max, std::move(initial), std::move(about));
}
inline ParameterSpec part(std::string key, std::string initial, std::string about) ///< from 0 to 1
{
    return numberSpec(std::move(key), "", 0.0, 1.0, std::move(initial), std::move(about));
}
/// Of a wet sound that is as loud as the dry one and does not follow its phase: sqrt(1 - mix^2) dry + mix wet.
inline ParameterSpec mixSpec(const char* initial)
{
    return part("mix", initial,
                "of the wet sound; the dry one gives way so far that both together are as loud as it was");
}
ParameterSpec choiceSpec(std::string key, std::vector<std::string> choices, std::string initial, std::string about);

} // namespace gristle::core
