// session.json and the edit journal beside it: what opens must be a session that can be saved and read again.

#include "core/session/edit_journal.h"
#include "core/session/session_document.h"
#include "fuzz/fuzz_target.h"

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <unistd.h>

using namespace gristle::core;
using Json = nlohmann::ordered_json;

namespace {

SessionDocument example()
{
    SessionDocument d;
    d.name = "s";
    Layer layer;
    layer.name = "l";
    layer.takes.resize(2);
    for (Take& t : layer.takes) t.file = "audio/a.wav";
    d.songs = {{"one", 120.0, "4/4", "E standard", {{"p", {layer}}}}, {"two", 76.0, "6/8", "drop D", {}}};
    return d;
}

/// A folder of our own, removed at the end.
const std::filesystem::path& folder()
{
    static const struct Folder {
        std::filesystem::path path =
            std::filesystem::temp_directory_path() / ("gristle-fuzz-" + std::to_string(getpid()));
        Folder() { std::filesystem::create_directories(path); }
        ~Folder() { std::filesystem::remove_all(path); }
    } made;
    return made.path;
}

} // namespace

namespace gristle::fuzz {

/// A session, a line of "----", and a journal.
std::vector<std::string> seeds()
{
    const SessionDocument before = example();
    SessionDocument after = before;
    after.songs[0].parts[0].layers[0].gainDb = 3.0;
    after.name = "renamed";
    (void)appendToJournal(folder(), 1, before, after);
    std::ifstream file(folder() / "edits.jsonl");
    const std::string journal((std::istreambuf_iterator<char>(file)), std::istreambuf_iterator<char>());
    const std::string session = sessionToJson(before).dump(1);
    return {session, session + "\n----\n" + journal, sessionToJson(before).dump() + "\n----\n" + journal + journal};
}

std::vector<std::string> words()
{
    return {"null",        "true",     "[]",   "{}",       "\"\"",      "-1",       "1e999",   "18446744073709551616",
            "\"../x\"",    "\"/etc\"", "edit", "\"song\"", "\"songs\"", "\"head\"", "\\ud800", "\xff",
            "[[[[[[[[[[[["};
}

} // namespace gristle::fuzz

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size)
{
    const std::string text(reinterpret_cast<const char*>(data), size);
    const auto cut = text.find("\n----\n");
    Json json = Json::parse(text.substr(0, cut), nullptr, false);
    if (json.is_discarded()) return 0;
    std::ofstream(folder() / "edits.jsonl") << (cut == std::string::npos ? std::string() : text.substr(cut + 6));
    const auto replayed = replayJournal(folder(), json);
    if (!replayed) return 0;
    // No reference leaves the folder, and what was read can be written and read again.
    for (const LayerPath& path : allLayers(replayed->document))
        for (const Take& take : findLayer(replayed->document, path)->takes)
            if (!take.file.empty() && !staysInside(take.file)) std::abort();
    const auto again = sessionFromJson(sessionToJson(replayed->document));
    if (!again || !(*again == replayed->document)) std::abort();
    return 0;
}
