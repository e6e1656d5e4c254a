#pragma once

#include "core/units/result.h"

#include <filesystem>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace gristle::core {

/// Whether something is of that name, as far as can be told: what cannot be looked at (a name too long, a link to
/// itself, a folder that may not be searched) is not there.
bool isThere(const std::filesystem::path& path) noexcept;

/// A name beside `path` for a file in the making, hidden, with the number of this process. Other processes and other
/// calls get other names; a name that would be too long is cut.
std::filesystem::path placeBeside(const std::filesystem::path& path);
/// The process that a file in the making belongs to; nothing where its name is none of placeBeside().
std::optional<int> processOfPlace(const std::string& fileName);

/// Forces `temporary` to disk, renames it over `path`, and forces the name to disk. @error WriteFailed, and then the
/// temporary file stays: it may be the only one, and its owner decides; NotConfirmed, and then it has its name
Outcome putInPlace(const std::filesystem::path& temporary, const std::filesystem::path& path);
/// The same for a name that must be new. @error WriteFailed, also where something is of that name
Outcome putInNewPlace(const std::filesystem::path& temporary, const std::filesystem::path& path);
/// Forces the names in a folder to disk; file systems that know no such thing are passed over. @error NotConfirmed
Outcome forceNames(const std::filesystem::path& folder);
/// Lets a temporary file go; nothing is said where it cannot.
void discard(const std::filesystem::path& temporary) noexcept;

/// Whether `out` may be written: it is not there yet, or it is a regular file that none of `inputs` is, and that no
/// session owns. @error Usage, and what to do
Outcome checkOutput(const std::filesystem::path& out, const std::vector<std::filesystem::path>& inputs = {});

/// Writes text so that either the old or the new content is on disk, whatever happens. @error WriteFailed, and then it
/// is the old one; NotConfirmed
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
/// The failure of reading it: FileMissing or FileUnreadable.
Error readError(const std::filesystem::path& path, int errnoValue);

/// True where a file lies in a folder or below it, links followed.
bool liesInside(const std::filesystem::path& file, const std::filesystem::path& folder);

} // namespace gristle::core
