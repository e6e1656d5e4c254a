#pragma once

#include "cli/command.h"
#include "core/mix/render/layer_source.h"

namespace gristle::cli {

/// --rig or --chain, as render and mix take them.
struct RigOption {
    std::string rigFile, chain;
    bool allowMissing = false;

    void addTo(CLI::App& command);
    bool given() const { return !rigFile.empty() || !chain.empty(); }
    /// The rig, and in `context` the folder that its files are found from.
    core::Result<core::RigDocument> read(core::NodeContext& context, std::vector<std::string>& warnings) const;
};

/// Every file that a recipe reads: none of them may be written over.
std::vector<std::filesystem::path> inputsOf(const core::LayerRecipe& recipe);

} // namespace gristle::cli
