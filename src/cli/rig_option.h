#pragma once

#include "cli/command.h"
#include "core/rig/rig_document.h"

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

} // namespace gristle::cli
