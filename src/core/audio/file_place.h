#pragma once

#include "core/units/result.h"

#include <filesystem>
#include <string>
#include <string_view>

namespace gristle::core {

/// A name beside `path` for a file in the making. Other processes get other names.
std::filesystem::path placeBeside(const std::filesystem::path& path);

/// Forces `temporary` to disk and renames it over `path`. @error WriteFailed; the temporary file is then removed
Outcome putInPlace(const std::filesystem::path& temporary, const std::filesystem::path& path);

/// Writes text so that either the old or the new content is on disk, whatever happens. @error WriteFailed
Outcome writeTextAtomically(const std::filesystem::path& path, std::string_view text);

/// The same without forcing it to disk: a crash of the program leaves the old or the new content, one of the machine
/// may not. @error WriteFailed
Outcome writeTextWhole(const std::filesystem::path& path, std::string_view text);

/// Forces a file that was written to disk. @error WriteFailed
Outcome forceToDisk(const std::filesystem::path& path);

/// Appends a line, whole or not at all; half a line that a crash left is closed first. @error WriteFailed, and then the
/// file is as it was
Outcome appendLine(const std::filesystem::path& path, std::string text);

/// The whole content of a text file of at most `mostBytes`. @error FileMissing, FileUnreadable, Unsupported (too long)
Result<std::string> readText(const std::filesystem::path& path, std::size_t mostBytes = 256u << 20);

/// The failure of writing `path`, in words, with the reason that errno gives.
Error writeError(const std::filesystem::path& path, int errnoValue);

/// True where a file lies in a folder or below it, links followed.
bool liesInside(const std::filesystem::path& file, const std::filesystem::path& folder);

} // namespace gristle::core
