#pragma once

#include "core/session/session_document.h"

#include <filesystem>

namespace gristle::core {

/// Copies a file losslessly into a session's audio/ under a free name and describes it; no document is changed, so it
/// may run beside other work on the session. @param channelFromOne  as chooseChannel
/// @error as copyLosslessly and chooseChannel
Result<Take> importTake(const std::filesystem::path& folder, const Calibration& input,
                        const std::filesystem::path& file, int channelFromOne, const std::string& now);

/// XXH3-128 of a file in hexadecimal. @error FileUnreadable
Result<std::string> hashFile(const std::filesystem::path& file);

/// A file name of what the user wrote: letters, digits, spaces, points, dashes; never empty, hidden or long.
std::string safeStem(const std::string& text);

/// `folder`/stem.wav, or with a number where that is taken; relative to `base`.
std::string freeName(const std::filesystem::path& base, const std::string& folder, const std::string& stem);

} // namespace gristle::core
