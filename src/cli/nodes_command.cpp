#include "cli/command.h"
#include "core/rig/node.h"
#include "core/units/number_text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

const char* kindText(ParameterKind kind)
{
    switch (kind) {
    case ParameterKind::Number: return "number";
    case ParameterKind::Time: return "time";
    case ParameterKind::Choice: return "choice";
    case ParameterKind::File: return "file";
    }
    return "";
}

Json parameterJson(const ParameterSpec& p)
{
    const bool ranged = p.kind == ParameterKind::Number || p.kind == ParameterKind::Time;
    Json initial = nullptr;
    if (p.kind == ParameterKind::Number)
        initial = *parseNumber(p.initial);
    else if (!p.initial.empty())
        initial = p.initial;
    return {{"key", p.key},
            {"label", p.label},
            {"unit", p.unit},
            {"kind", kindText(p.kind)},
            {"min", ranged ? Json(p.kind == ParameterKind::Time ? p.min * 1000.0 : p.min) : Json(nullptr)},
            {"max", ranged ? Json(p.kind == ParameterKind::Time ? p.max * 1000.0 : p.max) : Json(nullptr)},
            {"default", initial},
            {"choices", p.choices},
            {"about", p.about}};
}

std::string rangeText(const ParameterSpec& p)
{
    return p.kind == ParameterKind::Number   ? fmt::format("{} to {} {}", numberText(p.min), numberText(p.max), p.unit)
           : p.kind == ParameterKind::Choice ? fmt::format("{}", fmt::join(p.choices, ", "))
                                             : kindText(p.kind);
}

std::string aboutText(const ParameterSpec& p)
{
    if (p.onlyIf.of.empty()) return p.about;
    return fmt::format("{}; only with {}={}", p.about, p.onlyIf.of, fmt::join(p.onlyIf.choices, " or "));
}

/// docs/nodes.md.
std::string nodesPage()
{
    std::string out =
        "# Nodes\n\nWritten by `gristle-cli nodes --page` from the one declaration of each; a test compares.\n";
    for (const NodeType& t : nodeTypes()) {
        out += fmt::format("\n## {}\n\n{}\n", t.type, t.about);
        if (t.parameters.empty()) continue;
        out += "\n| key | default | range | what it does |\n|---|---|---|---|\n";
        for (const ParameterSpec& p : t.parameters)
            out += fmt::format("| {} | {} | {} | {} |\n", p.key, p.initial, rangeText(p), aboutText(p));
    }
    return out;
}

Result<Answer> nodes(bool page, const Surroundings&)
{
    Answer a;
    if (page) {
        a.text = nodesPage();
        return a;
    }
    a.json["node"] = Json::array();
    for (const NodeType& t : nodeTypes()) {
        Json node = {{"type", t.type}, {"title", t.title}, {"about", t.about}, {"channels", t.channels}};
        node["parameter"] = Json::array();
        a.text += fmt::format("{}  {}\n", t.type, t.about);
        for (const ParameterSpec& p : t.parameters) {
            node["parameter"].push_back(parameterJson(p));
            a.text += fmt::format("    {}={}  {}: {}\n", p.key, p.initial, rangeText(p), aboutText(p));
        }
        a.json["node"].push_back(std::move(node));
    }
    return a;
}

} // namespace

void addNodes(CLI::App& app, Job& job)
{
    CLI::App* command = app.add_subcommand("nodes", "The nodes that a rig is built from");
    auto page = std::make_shared<bool>(false);
    command->add_flag("--page", *page, "As the page of the manual");
    command->callback([page, &job] { job = [page](const Surroundings& s) { return nodes(*page, s); }; });
}

} // namespace gristle::cli
