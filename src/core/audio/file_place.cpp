#include "core/audio/file_place.h"

#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <fstream>
#include <unistd.h>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

/// Flushes a file or a folder to the disk; 0 or errno.
int syncPath(const fs::path& path, int flags)
{
    const int handle = ::open(path.c_str(), flags | O_CLOEXEC);
    if (handle < 0) return errno;
    const int failure = ::fsync(handle) == 0 ? 0 : errno;
    ::close(handle);
    return failure;
}

fs::path folderOf(const fs::path& path) { return path.has_parent_path() ? path.parent_path() : fs::path("."); }

} // namespace

Error writeError(const fs::path& path, int errnoValue)
{
    const std::string name = path.filename().string();
    const fs::path folder = folderOf(path);
    std::error_code ignored;
    if (errnoValue == ENOENT || !fs::is_directory(folder, ignored))
        return {ErrorCode::WriteFailed, name + ": the folder " + folder.string() + " does not exist",
                "make the folder or choose another"};
    if (errnoValue == ENOSPC || errnoValue == EFBIG || errnoValue == EDQUOT)
        return {ErrorCode::WriteFailed, name + ": the disk is full",
                "free some space, nothing was changed, then try again"};
    if (errnoValue == EACCES || errnoValue == EROFS || errnoValue == EPERM)
        return {ErrorCode::WriteFailed, name + ": the folder " + folder.string() + " is not writable",
                "choose a folder that you may write to"};
    return {ErrorCode::WriteFailed, name + ": it could not be written (" + std::strerror(errnoValue) + ")",
            "choose another place and try again"};
}

fs::path placeBeside(const fs::path& path)
{
    return folderOf(path) / ("." + path.filename().string() + "." + std::to_string(::getpid()) + ".part");
}

namespace {

/// Writes all of `text` to a descriptor; 0 or errno.
int writeAll(int handle, std::string_view text)
{
    while (!text.empty()) {
        const ssize_t written = ::write(handle, text.data(), text.size());
        if (written > 0)
            text.remove_prefix(static_cast<std::size_t>(written));
        else if (written == 0)
            return ENOSPC;
        else if (errno != EINTR)
            return errno;
    }
    return 0;
}

Outcome removed(const fs::path& temporary, const fs::path& path, int failure)
{
    std::error_code ignored;
    fs::remove(temporary, ignored);
    return writeError(path, failure);
}

/// Writes text into a new file beside `path` and says where.
Result<fs::path> writeBeside(const fs::path& path, std::string_view text)
{
    fs::path temporary = placeBeside(path);
    const int handle = ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (handle < 0) return writeError(path, errno);
    const int failure = writeAll(handle, text);
    ::close(handle);
    if (failure != 0) return removed(temporary, path, failure).error();
    return temporary;
}

} // namespace

Outcome putInPlace(const fs::path& temporary, const fs::path& path)
{
    int failure = syncPath(temporary, O_RDONLY);
    if (failure == 0 && ::rename(temporary.c_str(), path.c_str()) != 0) failure = errno;
    if (failure != 0) return removed(temporary, path, failure);
    syncPath(folderOf(path), O_RDONLY | O_DIRECTORY); // the rename itself; some file systems refuse, the file is whole
    return Done{};
}

Outcome writeTextAtomically(const fs::path& path, std::string_view text)
{
    const auto temporary = writeBeside(path, text);
    if (!temporary) return temporary.error();
    return putInPlace(*temporary, path);
}

Outcome writeTextWhole(const fs::path& path, std::string_view text)
{
    const auto temporary = writeBeside(path, text);
    if (!temporary) return temporary.error();
    if (::rename(temporary->c_str(), path.c_str()) != 0) return removed(*temporary, path, errno);
    return Done{};
}

Outcome forceToDisk(const fs::path& path)
{
    if (const int failure = syncPath(path, O_RDONLY); failure != 0) return writeError(path, failure);
    syncPath(folderOf(path), O_RDONLY | O_DIRECTORY);
    return Done{};
}

Outcome appendLine(const fs::path& path, std::string text)
{
    const int handle = ::open(path.c_str(), O_RDWR | O_CREAT | O_APPEND | O_CLOEXEC, 0644);
    if (handle < 0) return writeError(path, errno);
    const off_t length = ::lseek(handle, 0, SEEK_END);
    char last = '\n';
    if (length > 0 && ::pread(handle, &last, 1, length - 1) == 1 && last != '\n') text.insert(0, 1, '\n');
    const int failure = writeAll(handle, text + '\n');
    const bool mended = failure == 0 || ::ftruncate(handle, length) == 0;
    ::close(handle);
    if (failure == 0) return Done{};
    Error error = writeError(path, failure);
    if (!mended) error.message += ", and half a line of it is in the file";
    return error;
}

Result<std::string> readText(const fs::path& path, std::size_t mostBytes)
{
    const std::string name = path.filename().string();
    std::error_code failure;
    if (!fs::exists(path, failure))
        return Error{ErrorCode::FileMissing, name + ": there is no such file", "check the name and the folder"};
    if (!fs::is_regular_file(path, failure))
        return Error{ErrorCode::FileUnreadable, name + ": it is no ordinary file", "name a file"};
    const auto size = fs::file_size(path, failure);
    if (failure || size > mostBytes)
        return Error{ErrorCode::Unsupported, name + ": it is too long to be what it should be", "check the file"};
    std::ifstream file(path, std::ios::binary);
    std::string text(size, '\0');
    if (!file.read(text.data(), static_cast<std::streamsize>(size)))
        return Error{ErrorCode::FileUnreadable, name + ": it cannot be read", "check its permissions"};
    return text;
}

bool liesInside(const std::filesystem::path& file, const std::filesystem::path& folder)
{
    const auto relative =
        std::filesystem::weakly_canonical(file).lexically_relative(std::filesystem::weakly_canonical(folder));
    return !relative.empty() && *relative.begin() != "..";
}

} // namespace gristle::core
