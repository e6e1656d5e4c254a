#include "core/audio/file_place.h"

#include "core/units/text.h"

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <fcntl.h>
#include <memory>
#include <sys/stat.h>
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

constexpr std::string_view kPart = ".part";

} // namespace

Error writeError(const fs::path& path, int errnoValue)
{
    const std::string name = shownName(path);
    const fs::path folder = folderOf(path);
    std::error_code ignored;
    const auto failed = [&](const std::string& why, const char* remedy) {
        return Error{ErrorCode::WriteFailed, name + ": " + why, remedy};
    };
    switch (errnoValue) {
    case ENOENT:
    case ENOTDIR:
        return failed("the folder " + folder.string() + " does not exist", "make the folder or choose another");
    case ENOSPC:
    case EFBIG:
    case EDQUOT: return failed("the disk is full", "free some space, nothing was changed, then try again");
    case EACCES:
    case EPERM:
    case EROFS: {
        const bool isFolder = fs::is_directory(folder, ignored);
        return failed(isFolder ? "the folder " + folder.string() + " is not writable"
                               : "the folder " + folder.string() + " may not be entered",
                      "choose a folder that you may write to");
    }
    case ENAMETOOLONG: return failed("the name is too long", "take a shorter one");
    case ELOOP: return failed("it is a link that leads to itself", "remove the link or choose another name");
    case EISDIR: return failed("there is a folder of this name", "choose another name");
    case EMFILE:
    case ENFILE: return failed("too many files are open", "close other programs and try again");
    case EIO:
        return failed("the disk reports an error",
                      "copy what is there to another disk before anything else, then try again there");
    default: break;
    }
    return failed(std::string("it could not be written (") + std::strerror(errnoValue) + ")",
                  "choose another place and try again");
}

Error readError(const fs::path& path, int errnoValue)
{
    const std::string name = shownName(path);
    switch (errnoValue) {
    case ENOENT:
    case ENOTDIR: return {ErrorCode::FileMissing, name + ": there is no such file", "check the name and the folder"};
    case EACCES:
    case EPERM: return {ErrorCode::FileUnreadable, name + ": it may not be read", "check its permissions"};
    case ENAMETOOLONG: return {ErrorCode::FileMissing, name + ": the name is too long", "check the name"};
    case ELOOP:
        return {ErrorCode::FileUnreadable, name + ": it is a link that leads to itself", "name the file itself"};
    case EMFILE:
    case ENFILE:
        return {ErrorCode::FileUnreadable, name + ": too many files are open", "close other programs and try again"};
    case EIO:
        return {ErrorCode::FileUnreadable, name + ": the disk reports an error while it is read",
                "copy the file to another disk and try again; what cannot be copied is damaged"};
    default: break;
    }
    return {ErrorCode::FileUnreadable, name + ": it cannot be read (" + std::strerror(errnoValue) + ")",
            "check the file and its disk"};
}

bool isThere(const fs::path& path) noexcept
{
    std::error_code ignored;
    return fs::exists(fs::symlink_status(path, ignored));
}

fs::path placeBeside(const fs::path& path)
{
    constexpr std::size_t kMostBytes = 200; // of the 255 that a name may have
    static std::atomic<unsigned> count{0};
    return folderOf(path) / ("." + cutText(path.filename().string(), kMostBytes) + "." + std::to_string(::getpid()) +
                             "-" + std::to_string(count.fetch_add(1)) + std::string(kPart));
}

std::optional<int> processOfPlace(const std::string& name)
{
    if (!name.starts_with('.') || !name.ends_with(kPart)) return std::nullopt;
    const std::string_view stem(name.data(), name.size() - kPart.size());
    const auto dot = stem.rfind('.');
    int process = 0;
    const auto read = std::from_chars(stem.data() + dot + 1, stem.data() + stem.size(), process);
    const bool isWhole = read.ptr == stem.data() + stem.size() || *read.ptr == '-'; // earlier versions had no count
    return dot > 0 && read.ec == std::errc() && isWhole && process > 0 ? std::optional(process) : std::nullopt;
}

void discard(const fs::path& temporary) noexcept { ::unlink(temporary.c_str()); }

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

/// Writes text into a new file beside `path` and says where.
Result<fs::path> writeBeside(const fs::path& path, std::string_view text)
{
    fs::path temporary = placeBeside(path);
    const int handle = ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (handle < 0) return writeError(path, errno);
    int failure = writeAll(handle, text);
    if (::close(handle) != 0 && failure == 0) failure = errno; // a disk over a network may tell only now
    if (failure != 0) return discard(temporary), writeError(path, failure);
    return temporary;
}

/// Renames unless something has the new name already; 0 or errno.
int renameNew(const fs::path& from, const fs::path& to)
{
    if (::renameat2(AT_FDCWD, from.c_str(), AT_FDCWD, to.c_str(), RENAME_NOREPLACE) == 0) return 0;
    if (errno != EINVAL && errno != ENOSYS) return errno;
    if (isThere(to)) return EEXIST; // a file system that does not know how
    return ::rename(from.c_str(), to.c_str()) == 0 ? 0 : errno;
}

Outcome forcedInPlace(const fs::path& temporary, const fs::path& path, bool isNew)
{
    int failure = syncPath(temporary, O_RDONLY);
    if (failure == 0)
        failure = isNew ? renameNew(temporary, path) : ::rename(temporary.c_str(), path.c_str()) != 0 ? errno : 0;
    if (failure == EEXIST)
        return Error{ErrorCode::WriteFailed, shownName(path) + ": there is a file of this name already",
                     "choose another name"};
    if (failure != 0) return writeError(path, failure);
    return forceNames(folderOf(path));
}

} // namespace

Outcome forceNames(const fs::path& folder)
{
    const int failure = syncPath(folder, O_RDONLY | O_DIRECTORY);
    if (failure == 0 || failure == EINVAL || failure == ENOTSUP || failure == EACCES) return Done{};
    return Error{ErrorCode::NotConfirmed,
                 shownName(folder) + ": what was written is there, but the disk did not confirm it (" +
                     std::strerror(failure) + ")",
                 "copy the folder to another disk before anything else"};
}

Outcome putInPlace(const fs::path& temporary, const fs::path& path) { return forcedInPlace(temporary, path, false); }
Outcome putInNewPlace(const fs::path& temporary, const fs::path& path) { return forcedInPlace(temporary, path, true); }

Outcome writeTextAtomically(const fs::path& path, std::string_view text)
{
    const auto temporary = writeBeside(path, text);
    if (!temporary) return temporary.error();
    const auto placed = putInPlace(*temporary, path);
    if (!placed) discard(*temporary);
    return placed;
}

Outcome writeTextWhole(const fs::path& path, std::string_view text)
{
    const auto temporary = writeBeside(path, text);
    if (!temporary) return temporary.error();
    if (::rename(temporary->c_str(), path.c_str()) == 0) return Done{};
    const int failure = errno;
    discard(*temporary);
    return writeError(path, failure);
}

Outcome forceToDisk(const fs::path& path)
{
    if (const int failure = syncPath(path, O_RDONLY); failure != 0) return writeError(path, failure);
    return forceNames(folderOf(path));
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
    const std::string name = shownName(path);
    const int handle = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK); // a pipe without a writer must not wait
    if (handle < 0) return readError(path, errno);
    const std::unique_ptr<const int, void (*)(const int*)> closed(&handle, [](const int* h) { ::close(*h); });
    struct stat about {};
    if (::fstat(handle, &about) != 0) return readError(path, errno);
    if (!S_ISREG(about.st_mode))
        return Error{ErrorCode::FileUnreadable, name + ": it is no ordinary file", "name a file"};
    if (std::uint64_t(about.st_size) > mostBytes)
        return Error{ErrorCode::Unsupported, name + ": it is too long to be what it should be", "check the file"};
    std::string text(static_cast<std::size_t>(about.st_size), '\0');
    for (std::size_t at = 0; at < text.size();) {
        const ssize_t got = ::read(handle, text.data() + at, text.size() - at);
        if (got < 0 && errno == EINTR) continue;
        if (got < 0) return readError(path, errno);
        if (got == 0) text.resize(at); // it became shorter meanwhile
        at += static_cast<std::size_t>(got);
    }
    return text;
}

namespace {

fs::path realPath(const fs::path& path)
{
    std::error_code failure;
    fs::path real = fs::weakly_canonical(path, failure);
    if (!failure) return real;
    real = fs::absolute(path, failure);
    return (failure ? path : real).lexically_normal();
}

/// What a session keeps to itself, relative to its folder.
bool isOfSession(const fs::path& relative)
{
    constexpr std::string_view kFolders[] = {"audio", "impulses", "rigs", "cache"};
    constexpr std::string_view kFiles[] = {"session.json", "log.jsonl", "edits.jsonl", ".lock"};
    const std::string first = relative.begin()->string();
    const bool isDeep = std::next(relative.begin()) != relative.end();
    return isDeep ? std::ranges::find(kFolders, first) != std::end(kFolders)
                  : std::ranges::find(kFiles, first) != std::end(kFiles);
}

} // namespace

Outcome checkOutput(const fs::path& out, const std::vector<fs::path>& inputs)
{
    const std::string name = shownName(out);
    std::error_code failure;
    const auto status = fs::symlink_status(out, failure);
    const auto refused = [&](const std::string& why, const char* remedy) {
        return Error{ErrorCode::Usage, name + ": " + why, remedy};
    };
    if (status.type() == fs::file_type::not_found) return Done{};
    if (failure) return writeError(out, failure.value());
    if (status.type() == fs::file_type::directory) return refused("it is a folder", "name a file in it");
    if (status.type() == fs::file_type::symlink)
        return refused("it is a link, and would be replaced by a file", "name the file that it leads to");
    if (status.type() != fs::file_type::regular)
        return refused("it is no ordinary file (a device, a pipe or a socket)", "name a file, which is then made");
    for (const fs::path& input : inputs)
        if (std::error_code ignored; fs::equivalent(out, input, ignored))
            return refused("it is what is read (" + shownName(input) + ")", "write to another file");
    const fs::path real = realPath(out);
    for (fs::path folder = real.parent_path(); folder.has_relative_path(); folder = folder.parent_path())
        if (isThere(folder / "session.json") && isOfSession(real.lexically_relative(folder)))
            return refused("it belongs to the session " + shownName(folder), "write to another file");
    return Done{};
}

bool liesInside(const fs::path& file, const fs::path& folder)
{
    const auto relative = realPath(file).lexically_relative(realPath(folder));
    return !relative.empty() && *relative.begin() != "..";
}

} // namespace gristle::core
