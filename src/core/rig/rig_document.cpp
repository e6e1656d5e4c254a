#include "core/rig/rig_document.h"

#include "core/audio/file_place.h"
#include "core/units/json_text.h"
#include "core/units/text.h"

#include <algorithm>
#include <set>

namespace gristle::core {

namespace {

using Json = nlohmann::ordered_json;
constexpr int kFormat = 1;
constexpr int kDeepest = 32;

Error broken(const std::string& what)
{
    return {ErrorCode::BadDocument, "rig: " + what, "save the rig again or mend the file"};
}

Json chainToJson(const RigChain& chain)
{
    Json out = Json::array();
    for (const RigNode& node : chain) {
        Json entry;
        if (node.isSplit()) {
            for (const RigChain& lane : node.lanes) entry["lanes"].push_back(chainToJson(lane));
        } else {
            entry["node"] = node.type;
        }
        for (const auto& [key, value] : node.values) std::visit([&](const auto& v) { entry[key] = v; }, value);
        if (node.bypass && typeOf(node)) entry["bypass"] = true; // else it is bypassed for being unknown
        putBackUnknown(entry, node.unknown);
        out.push_back(std::move(entry));
    }
    return out;
}

class ChainReader {
public:
    ChainReader(Unknown unknown, std::vector<std::string>& warnings) : unknown_(unknown), warnings_(warnings) {}

    Result<RigChain> chain(const Json& json, int depth)
    {
        if (!json.is_array()) return broken("a chain is no list");
        if (depth > kDeepest) return broken("its lanes lie more than 32 deep");
        RigChain out;
        for (const Json& entry : json) {
            auto node = stage(entry, depth);
            if (!node) return node.error();
            out.push_back(std::move(*node));
        }
        return out;
    }

private:
    Result<RigNode> stage(const Json& entry, int depth)
    {
        if (!entry.is_object()) return broken("a stage is no object");
        RigNode node;
        if (const auto bypass = entry.find("bypass"); bypass != entry.end()) {
            if (!bypass->is_boolean()) return broken("bypass is neither true nor false");
            node.bypass = bypass->get<bool>();
        }
        if (const auto lanes = entry.find("lanes"); lanes != entry.end()) {
            node.type = "lanes";
            if (!lanes->is_array() || lanes->empty()) return broken("lanes is no list of chains");
            for (const Json& lane : *lanes) {
                auto read = chain(lane, depth + 1);
                if (!read) return read.error();
                node.lanes.push_back(std::move(*read));
            }
            if (const auto set = values(node, lanesType(), entry); !set) return set.error();
            return node;
        }
        const auto name = entry.find("node");
        if (name == entry.end() || !name->is_string()) return broken("a stage names no node");
        node.type = name->get<std::string>();
        const NodeType* type = findNodeType(node.type);
        if (!type) {
            const std::string what = "node \"" + node.type + "\" is not known to this version";
            if (unknown_ == Unknown::Refuse) return broken(what);
            warnings_.push_back(what + " and is bypassed");
            node.bypass = true;
            Json rest = entry; // kept for the version that knows it
            rest.erase("node");
            if (!rest.empty()) node.unknown = jsonText(rest);
            return node;
        }
        if (const auto set = values(node, *type, entry); !set) return set.error();
        return node;
    }

    /// Sets a value. False for what is neither number nor text.
    static bool keep(RigNode& node, const std::string& key, const Json& json)
    {
        if (json.is_number())
            node.values[key] = json.get<double>();
        else if (json.is_string())
            node.values[key] = json.get<std::string>();
        else
            return false;
        return true;
    }

    Outcome values(RigNode& node, const NodeType& type, const Json& entry)
    {
        Json rest = Json::object();
        for (const auto& [key, json] : entry.items())
            if (key != "node" && key != "bypass" && key != "lanes")
                if (const auto set = value(node, type, key, json, rest); !set) return set;
        if (!rest.empty()) node.unknown = jsonText(rest);
        return Done{};
    }

    /// @param rest  takes what is not known
    Outcome value(RigNode& node, const NodeType& type, const std::string& key, const Json& json, Json& rest)
    {
        const ParameterSpec* spec = type.find(key);
        if (!spec) {
            const std::string what = "\"" + key + "\" of " + node.type + " is not known to this version";
            if (unknown_ == Unknown::Refuse) return broken(what);
            warnings_.push_back(what + " and does nothing");
            rest[key] = json;
            return Done{};
        }
        if (!keep(node, key, json)) return broken("\"" + key + "\" of " + node.type + " is neither number nor text");
        return checkValue(type, *spec, node.values[key], ErrorCode::OutOfRange);
    }

    Unknown unknown_;
    std::vector<std::string>& warnings_;
};

} // namespace

const NodeType& lanesType()
{
    static const NodeType type{.type = "lanes",
                               .title = "Lanes",
                               .about = "Sends what comes in through every lane and adds up what comes out, or keeps "
                                        "two outputs apart.",
                               .channels = "any",
                               .parameters = {{.key = "gain",
                                               .label = "gain",
                                               .unit = "dB",
                                               .min = -60.0,
                                               .max = 60.0,
                                               .initial = "0",
                                               .about = "of the sum, so that joining is as loud as before"},
                                              {.key = "join",
                                               .label = "join",
                                               .kind = ParameterKind::Choice,
                                               .initial = "sum",
                                               .choices = {"sum", "apart"},
                                               .about = "apart: two lanes stay two outputs, the first on the left "
                                                        "channel, the second on the right"}},
                               .make = {}};
    return type;
}

namespace {

void count(const RigChain& chain, std::size_t& stages, std::size_t& lanes)
{
    stages += chain.size();
    for (const RigNode& node : chain) {
        lanes += node.lanes.size();
        for (const RigChain& lane : node.lanes) count(lane, stages, lanes);
    }
}

} // namespace

Outcome checkSize(const RigChain& chain)
{
    std::size_t stages = 0, lanes = 0;
    count(chain, stages, lanes);
    if (stages <= kMostStages && lanes <= kMostLanes) return Done{};
    return Error{ErrorCode::OutOfRange,
                 "rig: it has " + std::to_string(stages) + " stages and " + std::to_string(lanes) + " lanes, at most " +
                     std::to_string(kMostStages) + " and " + std::to_string(kMostLanes) + " are played",
                 "take some out"};
}

const NodeType* typeOf(const RigNode& node) { return node.isSplit() ? &lanesType() : findNodeType(node.type); }

Json rigToJson(const RigDocument& rig)
{
    Json out;
    out["gristle_rig"] = kFormat;
    out["name"] = rig.name;
    out["version"] = rig.version;
    out["di_average_dbfs"] = rig.di ? Json(rig.di->averageDbfs) : Json(nullptr);
    if (rig.di) {
        out["di_full_scale_dbu"] = rig.di->calibration.dbuAtFullScale;
        out["di_full_scale_assumed"] = rig.di->calibration.assumed;
        if (rig.di->octavesDb) out["di_octaves_db"] = *rig.di->octavesDb;
    }
    out["output_db"] = rig.outputDb;
    out["chain"] = chainToJson(rig.chain);
    putBackUnknown(out, rig.unknown);
    return out;
}

namespace {

/// What else is told of the DI; versions before told its level alone.
Result<DiStamp> readDi(const Json& json, double averageDbfs)
{
    DiStamp out{averageDbfs, {}, std::nullopt};
    const auto scale = json.value("di_full_scale_dbu", Json(out.calibration.dbuAtFullScale)),
               assumed = json.value("di_full_scale_assumed", Json(true)),
               octaves = json.value("di_octaves_db", Json(nullptr));
    if (!scale.is_number() || !assumed.is_boolean()) return broken("what it says of its DI is not what it should be");
    out.calibration = {scale.get<double>(), assumed.get<bool>()};
    if (octaves.is_null()) return out;
    if (!octaves.is_array() || octaves.size() != kOctaveHz.size() ||
        !std::ranges::all_of(octaves, [](const Json& v) { return v.is_number(); }))
        return broken("\"di_octaves_db\" wants " + std::to_string(kOctaveHz.size()) + " numbers");
    out.octavesDb = octaves.get<Octaves>();
    return out;
}

} // namespace

void keepUnknown(const RigChain& before, RigChain& now)
{
    std::vector<const RigNode*> left;
    for (const RigNode& node : before) left.push_back(&node);
    for (RigNode& node : now) {
        const auto same = std::ranges::find(left, node.type, [](const RigNode* n) { return n->type; });
        if (same == left.end()) continue;
        node.unknown = (*same)->unknown;
        for (std::size_t lane = 0; lane < std::min(node.lanes.size(), (*same)->lanes.size()); ++lane)
            keepUnknown((*same)->lanes[lane], node.lanes[lane]);
        left.erase(same);
    }
}

Result<RigDocument> rigFromJson(const Json& json, Unknown unknown, std::vector<std::string>& warnings)
{
    if (!json.is_object() || !json.contains("gristle_rig") || !json["gristle_rig"].is_number())
        return broken("this is no rig file");
    if (isNewerFormat(json["gristle_rig"], kFormat))
        return Error{ErrorCode::NewerVersion, "rig: it was written by a later version", "update Gristle to open it"};
    RigDocument rig;
    const auto name = json.value("name", Json("rig")), version = json.value("version", Json(1));
    const auto average = json.value("di_average_dbfs", Json(nullptr)), output = json.value("output_db", Json(0.0));
    if (!name.is_string() || !version.is_number_integer() || !(average.is_null() || average.is_number()) ||
        !output.is_number())
        return broken("its head is not what it should be");
    rig.name = name.get<std::string>();
    rig.version = version.get<int>();
    if (average.is_number()) {
        auto di = readDi(json, average.get<double>());
        if (!di) return di.error();
        rig.di = *di;
    }
    rig.outputDb = output.get<double>();
    if (std::abs(rig.outputDb) > 60.0)
        return Error{ErrorCode::OutOfRange, "rig: output_db is outside its range", "take a number from -60 to 60"};
    auto chain = ChainReader(unknown, warnings).chain(json.value("chain", Json::array()), 0);
    if (!chain) return chain.error();
    rig.chain = std::move(*chain);
    if (const auto fits = checkSize(rig.chain); !fits) return fits.error();
    constexpr std::string_view kKnown[] = {
        "gristle_rig",   "name",      "version", "di_average_dbfs", "di_full_scale_dbu", "di_full_scale_assumed",
        "di_octaves_db", "output_db", "chain"};
    Json rest = Json::object();
    for (const auto& [key, value] : json.items())
        if (std::ranges::find(kKnown, key) == std::end(kKnown)) rest[key] = value;
    if (!rest.empty()) rig.unknown = jsonText(rest);
    return rig;
}

Result<RigDocument> readRig(const std::filesystem::path& path, Unknown unknown, std::vector<std::string>& warnings)
{
    const auto text = readText(path, 16u << 20);
    if (!text) return text.error();
    const auto json = parseJson<Json>(*text);
    if (json.is_discarded())
        return Error{ErrorCode::BadDocument, shownName(path) + ": it is no valid JSON", "mend or replace the file"};
    auto rig = rigFromJson(json, unknown, warnings);
    if (!rig) return Error{rig.error().code, shownName(path) + ": " + rig.error().message, rig.error().remedy};
    return rig;
}

std::vector<std::string> filesOf(const RigChain& chain)
{
    std::set<std::string> out;
    for (const RigNode& node : chain) {
        for (const RigChain& lane : node.lanes)
            for (const std::string& file : filesOf(lane)) out.insert(file);
        const NodeType* type = findNodeType(node.type);
        if (!type) continue;
        for (const auto& [key, value] : node.values)
            if (const auto* spec = type->find(key); spec && spec->kind == ParameterKind::File)
                out.insert(valueText(value));
    }
    return {out.begin(), out.end()};
}

ParameterValues completeValues(const NodeType& type, const ParameterValues& set)
{
    ParameterValues out;
    for (const ParameterSpec& spec : type.parameters) {
        if (const auto at = set.find(spec.key); at != set.end())
            out[spec.key] = at->second;
        else if (const auto initial = parseValue(type, spec, spec.initial))
            out[spec.key] = *initial;
        else
            out[spec.key] = spec.initial; // a file that must be named: its node says so
    }
    return out;
}

} // namespace gristle::core
