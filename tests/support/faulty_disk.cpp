#include "support/faulty_disk.h"

#include <atomic>
#include <cerrno>
#include <climits>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <dlfcn.h>
#include <fcntl.h>
#include <sys/types.h>
#include <unistd.h>

namespace {

char folder[PATH_MAX] = "";
std::atomic<std::int64_t> failing{0}, counted{0}, room{-1};
std::atomic<bool> failed{false};

template<typename F> F next(const char* name)
{
    void* const found = dlsym(RTLD_NEXT, name);
    F out;
    std::memcpy(&out, &found, sizeof out);
    return out;
}

bool isBelow(const char* path) { return folder[0] != '\0' && std::strncmp(path, folder, std::strlen(folder)) == 0; }

bool isBelow(int handle)
{
    if (folder[0] == '\0') return false;
    char link[64], path[PATH_MAX];
    std::snprintf(link, sizeof link, "/proc/self/fd/%d", handle);
    const ssize_t length = ::readlink(link, path, sizeof path - 1);
    if (length <= 0) return false;
    path[length] = '\0';
    return isBelow(path);
}

/// Counts a call; true where it is to fail.
bool fails()
{
    const std::int64_t at = counted.fetch_add(1) + 1;
    if (failing.load() == 0 || at != failing.load()) return false;
    failed.store(true);
    errno = EIO;
    return true;
}

/// How many of so many bytes fit; -1 and ENOSPC where none do.
ssize_t fits(size_t bytes)
{
    const std::int64_t left = room.load();
    if (left < 0) return ssize_t(bytes);
    if (left == 0) {
        failed.store(true);
        errno = ENOSPC;
        return -1;
    }
    const auto taken = std::int64_t(bytes) < left ? std::int64_t(bytes) : left;
    room.fetch_sub(taken);
    return ssize_t(taken);
}

struct FromEnvironment {
    FromEnvironment()
    {
        const char* where = std::getenv("GRISTLE_FAULT_FOLDER");
        if (!where) return;
        std::snprintf(folder, sizeof folder, "%s", where);
        if (const char* at = std::getenv("GRISTLE_FAULT_AT")) failing = std::atoll(at);
        if (const char* bytes = std::getenv("GRISTLE_FAULT_ROOM")) room = std::atoll(bytes);
    }
    ~FromEnvironment()
    {
        if (const char* tell = std::getenv("GRISTLE_FAULT_TELL")) { // how many calls there were, to choose among them
            folder[0] = '\0';
            if (FILE* file = std::fopen(tell, "w")) {
                std::fprintf(file, "%lld %d\n", static_cast<long long>(counted.load()), failed.load() ? 1 : 0);
                std::fclose(file);
            }
        }
    }
} fromEnvironment;

} // namespace

namespace gristle::test::faulty_disk {

void below(const std::string& where)
{
    off();
    std::snprintf(folder, sizeof folder, "%s", where.c_str());
}
void failAt(std::int64_t call) { counted = 0, failed = false, failing = call; }
void leaveRoom(std::int64_t bytes) { failed = false, room = bytes; }
std::int64_t calls() { return counted; }
bool hasFailed() { return failed; }
void off() { folder[0] = '\0', failing = 0, room = -1, counted = 0, failed = false; }

} // namespace gristle::test::faulty_disk

extern "C" {

ssize_t read(int handle, void* to, size_t bytes)
{
    static const auto real = next<ssize_t (*)(int, void*, size_t)>("read");
    return isBelow(handle) && fails() ? -1 : real(handle, to, bytes);
}

ssize_t write(int handle, const void* from, size_t bytes)
{
    static const auto real = next<ssize_t (*)(int, const void*, size_t)>("write");
    if (!isBelow(handle)) return real(handle, from, bytes);
    if (fails()) return -1;
    const ssize_t taken = fits(bytes);
    return taken < 0 ? -1 : real(handle, from, size_t(taken));
}

int fsync(int handle)
{
    static const auto real = next<int (*)(int)>("fsync");
    return isBelow(handle) && fails() ? -1 : real(handle);
}

int fdatasync(int handle)
{
    static const auto real = next<int (*)(int)>("fdatasync");
    return isBelow(handle) && fails() ? -1 : real(handle);
}

int rename(const char* from, const char* to)
{
    static const auto real = next<int (*)(const char*, const char*)>("rename");
    return (isBelow(from) || isBelow(to)) && fails() ? -1 : real(from, to);
}

int renameat2(int fromFolder, const char* from, int toFolder, const char* to, unsigned int flags)
{
    static const auto real = next<int (*)(int, const char*, int, const char*, unsigned int)>("renameat2");
    return (isBelow(from) || isBelow(to)) && fails() ? -1 : real(fromFolder, from, toFolder, to, flags);
}
}
