#pragma once

#include "core/session/take_import.h"
#include "core/session/take_place.h"
#include "core/units/progress.h"

namespace gristle::core {

/// Where a file lands in its song.
enum class LandsAt {
    Beginning, ///< at bar 1, or at TakePlace::atS
    Stamp,     ///< at its time stamp (BWF), or as its name says: "bar 17", "12.5 s"
};

/// A file to bring in.
struct FileToImport {
    std::filesystem::path file;
    ImportOptions options;
    TakePlace into;
    LandsAt at = LandsAt::Beginning;
};

/// What a file says of where it belongs, seconds: by the time stamp in it, of the other program's clock, or by a bar or
/// seconds in its name, of the song. None of both: nothing. @error as AudioReader::open
struct SaidPlace {
    std::optional<double> stampS, songS;
};
Result<SaidPlace> saidPlace(const std::filesystem::path& file, const BarGrid& grid);

/// Sets where files that land by themselves belong, by the clock of their song; where that has none yet, by the full
/// hour before the earliest stamp, as sessions are laid out. @error as saidPlace; Usage where a file that was to
/// land by its stamp has none, or one before bar 1
Outcome landFiles(const SessionDocument& document, std::vector<FileToImport>& files);

/// Whether all may go where they are to: @error as checkPlace(); Usage where a file of two sides is to be a DI
Outcome checkImport(const SessionDocument& document, const std::vector<FileToImport>& files);

/// Copies the files into the session's folder under hidden names: all of them, or none where one is bad.
/// @param input  what they were recorded at @error as stageTake(); Cancelled
Result<std::vector<StagedTake>> stageFiles(const std::filesystem::path& folder, const Calibration& input,
                                           const std::vector<FileToImport>& files, const std::string& now,
                                           const Progress& progress = {});

} // namespace gristle::core
