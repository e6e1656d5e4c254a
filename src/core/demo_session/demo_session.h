#pragma once

#include "core/session/session_folder.h"

namespace gristle::core {

/// Makes the demo session "Night Ferry" in a folder that is not there yet: three invented songs, played by core/sim
/// from fixed seeds, with faults planted on purpose (a low take, a clipped one, hum on one pickup, bars that drag, a
/// side inverted). The same bytes on every run. All sound is synthesised. @error as SessionFolder::create
Outcome makeDemoSession(const std::filesystem::path& folder, const Progress& progress = {});

} // namespace gristle::core
