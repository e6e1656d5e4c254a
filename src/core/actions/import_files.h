#pragma once

#include "core/session/take_import.h"
#include "core/session/take_place.h"
#include "core/units/progress.h"

namespace gristle::core {

/// A file to bring in.
struct FileToImport {
    std::filesystem::path file;
    ImportOptions options;
    TakePlace into;
};

/// Copies the files into the session's folder under hidden names: all of them, or none where one is bad.
/// @param input  what they were recorded at @error as stageTake(); Cancelled
Result<std::vector<StagedTake>> stageFiles(const std::filesystem::path& folder, const Calibration& input,
                                           const std::vector<FileToImport>& files, const std::string& now,
                                           const Progress& progress = {});

} // namespace gristle::core
