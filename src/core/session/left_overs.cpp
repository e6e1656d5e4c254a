#include "core/audio/file_place.h"
#include "core/session/session_folder.h"
#include "core/session/take_import.h"

#include <cerrno>
#include <csignal>
#include <set>
#include <unistd.h>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

constexpr const char* kSubfolders[] = {".", "audio", "impulses", "rigs", "cache"};

/// The files right in a folder of the session, relative to it.
template<typename Use> void eachFile(const fs::path& base, const char* folder, Use use)
{
    std::error_code failure;
    for (fs::directory_iterator at(base / folder, failure), end; !failure && at != end; at.increment(failure)) {
        std::error_code ignored;
        if (!at->is_regular_file(ignored)) continue;
        const std::string name = at->path().filename().string();
        use(*at, std::string_view(folder) == "." ? name : std::string(folder) + "/" + name);
    }
}

/// Whether a name is that of a file in the making whose program has ended.
bool isDeadPart(const std::string& fileName)
{
    const auto process = processOfPlace(fileName);
    return process && *process != ::getpid() && ::kill(*process, 0) != 0 && errno == ESRCH;
}

} // namespace

void SessionFolder::dropDeadParts()
{
    std::vector<fs::path> dead;
    for (const char* folder : kSubfolders)
        eachFile(path(), folder, [&](const fs::directory_entry& file, const std::string&) {
            if (isDeadPart(file.path().filename().string())) dead.push_back(file.path());
        });
    for (const fs::path& file : dead) discard(file);
}

std::vector<LeftOver> SessionFolder::leftOvers(const Progress& progress) const
{
    std::set<std::string> named, hashes;
    std::set<std::uintmax_t> lengths;
    for (const LayerPath& at : allLayers(document()))
        for (const Take& take : findLayer(document(), at)->takes) {
            named.insert(take.file);
            if (!take.hash.empty()) hashes.insert(take.hash);
            std::error_code ignored;
            lengths.insert(fs::file_size(path() / take.file, ignored));
        }
    std::vector<LeftOver> out;
    for (const char* folder : kSubfolders)
        eachFile(path(), folder, [&](const fs::directory_entry& file, const std::string& relative) {
            if (progress.stopped()) return;
            std::error_code ignored;
            const std::string name = file.path().filename().string();
            LeftOver left{relative, "", file.file_size(ignored), false};
            const bool isAudio = std::string_view(folder) == "audio";
            if (processOfPlace(name)) {
                left.isSafe = isDeadPart(name);
                left.why = left.isSafe ? "a file in the making of a program that ended" : "a file in the making";
            } else if (name.starts_with(".recording ")) {
                left.why = name.ends_with(".json") ? "the note of a recording that was not finished"
                                                   : "a recording that was not finished";
            } else if (name.starts_with(".unread ")) {
                left.why = "a recording with a broken header, whose samples were salvaged";
            } else if (name.starts_with("edits.unread")) {
                left.why = "an edit journal that could not be read to its end";
            } else if (isAudio && !named.contains(relative)) {
                const auto hash = lengths.contains(left.bytes) ? hashFile(file.path()) : Result<std::string>("");
                left.isSafe = hash && hashes.contains(*hash);
                left.why = left.isSafe ? "a second copy of a take that a layer has" : "no layer has this file";
            } else {
                return;
            }
            out.push_back(std::move(left));
        });
    std::ranges::sort(out, {}, &LeftOver::file);
    return out;
}

Outcome SessionFolder::removeLeftOver(const LeftOver& leftOver)
{
    if (!staysInside(leftOver.file)) return Error{ErrorCode::Usage, leftOver.file + ": it is outside", "name another"};
    for (const LayerPath& at : allLayers(document()))
        for (const Take& take : findLayer(document(), at)->takes)
            if (take.file == leftOver.file)
                return Error{ErrorCode::Usage, leftOver.file + ": a layer has this file", "name another"};
    std::error_code failure;
    fs::remove(path() / leftOver.file, failure);
    if (failure) return writeError(path() / leftOver.file, failure.value());
    return Done{};
}

} // namespace gristle::core
