#include "cli/rig_option.h"

namespace gristle::cli {

using namespace core;

void RigOption::addTo(CLI::App& command)
{
    auto* rig = command.add_option("--rig", rigFile, "A rig file (JSON)");
    auto* line = command.add_option("--chain", chain, "The recall line: node key=value | node ... ; lanes in { ; }");
    rig->excludes(line);
    command.add_flag("--allow-missing", allowMissing, "Bypass what is not known or missing, and say so");
}

Result<RigDocument> RigOption::read(NodeContext& context, std::vector<std::string>& warnings) const
{
    context.folder = std::filesystem::current_path();
    if (rigFile.empty()) {
        RigDocument rig;
        auto parsed = parseRecallLine(chain);
        if (!parsed) return parsed.error();
        rig.chain = std::move(*parsed);
        return rig;
    }
    const auto path = std::filesystem::absolute(rigFile);
    context.folder = path.parent_path();
    // A rig of a session names its files from the session's folder.
    if (context.folder.filename() == "rigs" && std::filesystem::exists(context.folder.parent_path() / "session.json"))
        context.folder = context.folder.parent_path();
    return readRig(path, allowMissing ? Unknown::Bypass : Unknown::Refuse, warnings);
}

} // namespace gristle::cli
