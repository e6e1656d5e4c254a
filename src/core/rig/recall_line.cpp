#include "core/rig/rig_document.h"

namespace gristle::core {

namespace {

constexpr int kDeepest = 32;
constexpr std::string_view kSpecial = " \t\"|;{}:=\\";

Error usage(const std::string& what, const std::string& remedy) { return {ErrorCode::Usage, what, remedy}; }

/// Reads one recall line from front to back.
class LineReader {
public:
    explicit LineReader(const std::string& text) : text_(text) {}

    Result<RigChain> whole()
    {
        auto chain = readChain(0);
        if (!chain) return chain;
        if (at_ < text_.size()) return usage(place() + "a } or ; has no { before it", "take it out or add a {");
        return chain;
    }

private:
    std::string place() const { return "chain, character " + std::to_string(at_ + 1) + ": "; }
    void skipSpace()
    {
        while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\t' || text_[at_] == '\n')) ++at_;
    }
    bool atStageEnd()
    {
        skipSpace();
        return at_ == text_.size() || text_[at_] == '|' || text_[at_] == ';' || text_[at_] == '}';
    }

    Result<RigChain> readChain(int depth)
    {
        RigChain chain;
        if (depth > kDeepest) return usage(place() + "lanes lie more than 32 deep", "simplify the chain");
        if (atStageEnd() && (at_ == text_.size() || text_[at_] != '|')) return chain; // an empty lane is a dry one
        while (true) {
            auto node = atStageEnd()
                            ? Result<RigNode>(usage(place() + "a node is missing", "write a node between the |"))
                        : text_[at_] == '{' ? readSplit(depth)
                                            : readNode();
            if (!node) return node.error();
            chain.push_back(std::move(*node));
            skipSpace();
            if (at_ == text_.size() || text_[at_] != '|') return chain;
            ++at_;
        }
    }

    Result<RigNode> readSplit(int depth)
    {
        RigNode split;
        split.type = "lanes";
        ++at_;
        while (true) {
            auto lane = readChain(depth + 1);
            if (!lane) return lane.error();
            split.lanes.push_back(std::move(*lane));
            if (at_ == text_.size()) return usage(place() + "a { is not closed", "add a }");
            if (text_[at_++] == '}') break;
        }
        if (const auto set = readValues(split, lanesType()); !set) return set.error();
        return split;
    }

    /// A word up to a space or a special character, or in double quotes with \" and \\.
    Result<std::string> readWord(bool stopAtEquals)
    {
        std::string word;
        bool quoted = false;
        for (; at_ < text_.size(); ++at_) {
            const char c = text_[at_];
            if (c == '"') {
                quoted = !quoted;
                continue;
            }
            if (quoted && c == '\\' && at_ + 1 < text_.size() && (text_[at_ + 1] == '"' || text_[at_ + 1] == '\\')) {
                word += text_[++at_];
                continue;
            }
            if (!quoted && (c == ' ' || c == '\t' || c == '\n' || c == '|' || c == ';' || c == '{' || c == '}')) break;
            if (!quoted && stopAtEquals && c == '=') break;
            word += c;
        }
        if (quoted) return usage(place() + "a quotation mark is not closed", "add a \"");
        return word;
    }

    Result<RigNode> readNode()
    {
        const auto name = readWord(true);
        if (!name) return name.error();
        const NodeType* type = findNodeType(*name);
        if (!type)
            return usage("node \"" + *name + "\": there is no such node", "see gristle-cli nodes for those there are");
        RigNode node;
        node.type = *name;
        if (const auto set = readValues(node, *type); !set) return set.error();
        return node;
    }

    Outcome readValues(RigNode& node, const NodeType& type)
    {
        while (!atStageEnd()) {
            const auto key = readWord(true);
            if (!key) return key.error();
            if (key->empty() || at_ == text_.size() || text_[at_] != '=')
                return usage(place() + "key=value is missing after \"" + *key + "\"",
                             node.isSplit() ? "put a | between stages" : "write " + node.type + " key=value");
            ++at_;
            const auto text = readWord(false);
            if (!text) return text.error();
            if (const auto set = setValue(node, type, *key, *text); !set) return set;
        }
        return Done{};
    }

    Outcome setValue(RigNode& node, const NodeType& type, const std::string& key, const std::string& text)
    {
        if (key == "bypass") {
            if (text != "on" && text != "off")
                return usage(type.type + " bypass=" + text + ": it is on or off", "take one");
            node.bypass = text == "on";
            return Done{};
        }
        const ParameterSpec* spec = type.find(key);
        if (!spec) {
            std::string keys;
            for (const auto& p : type.parameters) keys += (keys.empty() ? "" : ", ") + p.key;
            return usage(type.type + " " + key + ": this node has no such key", "its keys are " + keys);
        }
        auto value = parseValue(type, *spec, text);
        if (!value) return value.error();
        node.values[key] = std::move(*value);
        return Done{};
    }

    const std::string& text_;
    std::size_t at_ = 0;
};

std::string quotedWhereNeeded(const std::string& text)
{
    if (!text.empty() && text.find_first_of(kSpecial) == std::string::npos) return text;
    std::string out = "\"";
    for (const char c : text) {
        if (c == '"' || c == '\\') out += '\\';
        out += c;
    }
    return out + '"';
}

std::string stageText(const RigNode& node)
{
    std::string out = node.type;
    if (node.isSplit()) {
        out = "{ ";
        for (std::size_t i = 0; i < node.lanes.size(); ++i) out += (i > 0 ? " ; " : "") + recallLine(node.lanes[i]);
        out += " }";
    }
    for (const auto& [key, value] : node.values) out += " " + key + "=" + quotedWhereNeeded(valueText(value));
    if (node.bypass) out += " bypass=on";
    return out;
}

} // namespace

Result<RigChain> parseRecallLine(const std::string& line)
{
    auto chain = LineReader(line).whole();
    if (!chain) return chain;
    if (const auto fits = checkSize(*chain); !fits) return usage(fits.error().message, fits.error().remedy);
    return chain;
}

std::string recallLine(const RigChain& chain)
{
    std::string out;
    for (const RigNode& node : chain) out += (out.empty() ? "" : " | ") + stageText(node);
    return out;
}

} // namespace gristle::core
