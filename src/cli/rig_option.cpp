#include "cli/rig_option.h"

#include "core/audio/file_place.h"

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
    std::error_code ignored; // a working folder that is gone makes relative names that are not found
    context.folder = std::filesystem::current_path(ignored);
    if (rigFile.empty()) {
        RigDocument rig;
        auto parsed = parseRecallLine(chain);
        if (!parsed) return parsed.error();
        rig.chain = std::move(*parsed);
        return rig;
    }
    const auto path = context.folder / rigFile;
    context.folder = path.parent_path();
    // A rig of a session names its files from the session's folder.
    if (context.folder.filename() == "rigs" && isThere(context.folder.parent_path() / "session.json"))
        context.folder = context.folder.parent_path();
    return readRig(path, allowMissing ? Unknown::Bypass : Unknown::Refuse, warnings);
}

std::vector<std::filesystem::path> inputsOf(const LayerRecipe& recipe)
{
    std::vector<std::filesystem::path> out{recipe.file};
    for (const auto& piece : recipe.pieces) out.push_back(piece.file);
    for (const auto& file : filesOf(recipe.rig.chain)) out.push_back(recipe.context.folder / file);
    return out;
}

} // namespace gristle::cli
