#pragma once

#include "core/rig/node.h"
#include "core/units/calibration.h"
#include "core/units/octaves.h"

#include <nlohmann/json_fwd.hpp>
#include <optional>

namespace gristle::core {

struct RigNode;
using RigChain = std::vector<RigNode>;

/// One stage of a rig: a node with the values that differ from its initial ones, or a split into lanes that are summed.
struct RigNode {
    std::string type; ///< "lanes" for a split
    ParameterValues values;
    bool bypass = false;
    std::vector<RigChain> lanes;
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came

    bool isSplit() const noexcept { return type == "lanes"; }
    bool operator==(const RigNode&) const = default;
};

/// The DI that a rig was dialled in on.
struct DiStamp {
    double averageDbfs = 0.0;         ///< typical level while playing
    Calibration calibration;          ///< of its input
    std::optional<Octaves> octavesDb; ///< how its power is spread (OctaveMeter)
    bool operator==(const DiStamp&) const = default;
};

/// What a split itself can be set to: the gain of its sum. Not among the nodes.
const NodeType& lanesType();
/// The type of a stage, lanesType() for a split; null where it is not known.
const NodeType* typeOf(const RigNode& node);

/// A rig: the recipe that a take is rendered through. Every save is a new version.
struct RigDocument {
    std::string name = "rig";
    int version = 1;
    std::optional<DiStamp> di; ///< what it was dialled in on
    double outputDb = 0.0;     ///< the rig's own output level
    RigChain chain;
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came

    bool operator==(const RigDocument&) const = default;
};

/// The most stages and lanes that a rig may have, all depths together: each costs memory while it is played.
inline constexpr std::size_t kMostStages = 1024, kMostLanes = 256;
/// @error OutOfRange where a chain has more of them
Outcome checkSize(const RigChain& chain);

/// What to do with a node or key that this version does not know.
enum class Unknown { Refuse, Bypass };

/// Reads the recall line of at most kMostStages and kMostLanes: nodes with `|` between them, `node key=value ...`, `{
/// chain ; chain }`, bypass=on.
/// @error Usage with the place in words
Result<RigChain> parseRecallLine(const std::string& line);
/// The line that parses to the same chain.
std::string recallLine(const RigChain& chain);

/// What a line does not say: fields of a newer version stay with their stage where the chain is written anew. The
/// first of a type finds the first of it, and so on, and so do their lanes.
void keepUnknown(const RigChain& before, RigChain& now);

nlohmann::ordered_json rigToJson(const RigDocument& rig);
/// @param warnings  takes a sentence for each thing that was bypassed or dropped with Unknown::Bypass
/// @error BadDocument, NewerVersion, OutOfRange
Result<RigDocument> rigFromJson(const nlohmann::ordered_json& json, Unknown unknown,
                                std::vector<std::string>& warnings);
/// Reads a rig file. @error as readText and rigFromJson
Result<RigDocument> readRig(const std::filesystem::path& path, Unknown unknown, std::vector<std::string>& warnings);

/// The files that a chain names, each once, in order.
std::vector<std::string> filesOf(const RigChain& chain);

/// All parameters of a node, the unset ones at their initial values.
ParameterValues completeValues(const NodeType& type, const ParameterValues& set);

} // namespace gristle::core
