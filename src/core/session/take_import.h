#pragma once

#include "core/audio/audio_writer.h"
#include "core/session/session_document.h"

#include <filesystem>

namespace gristle::core {

/// What is heard of a file with several channels.
enum class ImportSides {
    One,  ///< one channel
    Both, ///< two, as two sides; one where they are alike
    Mean  ///< their mean, which is written as a file of one channel
};

/// How a file is brought in.
struct ImportOptions {
    ImportSides sides = ImportSides::One;
    int channelFromOne = 0; ///< of One: as chooseChannel
    ShortFile ifShort = ShortFile::Refuse;
};

/// A file that was copied into a session and is no take yet: it has a hidden name, which a session that is opened
/// after a crash lets go. Its owner places or discards it.
struct StagedTake {
    Take take; ///< all but the file's name
    std::filesystem::path temporary;
    std::string stem; ///< of the name that it wants
};

/// Copies a file (but for a mean) losslessly into a session's audio/ and describes it; no document is changed, so it
/// may run beside other work on the session. @error as copyBeside and chooseChannel; Unsupported where more than two
/// channels are to be two sides
Result<StagedTake> stageTake(const std::filesystem::path& folder, const Calibration& input,
                             const std::filesystem::path& file, const ImportOptions& options, const std::string& now);
/// Gives staged takes free names of their own, all or none. @error WriteFailed, and then all of them are discarded
Result<std::vector<Take>> placeTakes(const std::filesystem::path& folder, std::vector<StagedTake> staged);
void discardTakes(const std::vector<StagedTake>& staged);
/// Both for one file.
Result<Take> importTake(const std::filesystem::path& folder, const Calibration& input,
                        const std::filesystem::path& file, const ImportOptions& options, const std::string& now);

/// XXH3-128 of a file in hexadecimal. @error FileUnreadable
Result<std::string> hashFile(const std::filesystem::path& file);

/// A file name of what the user wrote: letters, digits, spaces, points, dashes; never empty, hidden or over 80 bytes,
/// cut between characters; valid UTF-8.
std::string safeStem(const std::string& text);

/// `folder`/stem.wav, or with a number where that is taken; relative to `base`.
std::string freeName(const std::filesystem::path& base, const std::string& folder, const std::string& stem);

} // namespace gristle::core
