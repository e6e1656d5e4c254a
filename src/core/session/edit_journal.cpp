#include "core/session/edit_journal.h"

#include "core/audio/file_place.h"

#include <cerrno>
#include <fcntl.h>
#include <fstream>
#include <unistd.h>

namespace gristle::core {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

constexpr const char* kJournal = "edits.jsonl";

Json stepToJson(std::int64_t edit, const SessionDocument& before, const SessionDocument& after)
{
    Json step = {{"edit", edit}};
    Json head = sessionHeadToJson(after);
    if (head != sessionHeadToJson(before)) step["head"] = std::move(head);
    step["songs"] = after.songs.size();
    step["song"] = Json::array();
    for (std::size_t i = 0; i < after.songs.size(); ++i)
        if (i >= before.songs.size() || !(after.songs[i] == before.songs[i]))
            step["song"].push_back({i, songToJson(after.songs[i])});
    return step;
}

bool isWhole(const Json& json, const char* key)
{
    const auto at = json.find(key);
    return at != json.end() && at->is_number_unsigned();
}

/// Puts a step on top of a session; false where it does not fit.
bool apply(const Json& step, Json& session)
{
    if (!isWhole(step, "songs") || !step.contains("song") || !step["song"].is_array()) return false;
    if (!session.contains("song")) session["song"] = Json::array();
    Json& songs = session["song"];
    const auto count = step["songs"].get<std::size_t>();
    if (!songs.is_array() || count > songs.size() + step["song"].size()) return false;
    while (songs.size() < count) songs.push_back(Json::object());
    while (songs.size() > count) songs.erase(songs.size() - 1);
    for (const Json& entry : step["song"]) {
        if (!entry.is_array() || entry.size() != 2 || !entry[0].is_number_unsigned()) return false;
        if (entry[0].get<std::size_t>() >= count) return false;
        songs[entry[0].get<std::size_t>()] = entry[1];
    }
    if (const auto head = step.find("head"); head != step.end()) {
        if (!head->is_object()) return false;
        for (const auto& [key, value] : head->items()) session[key] = value;
    }
    return true;
}

} // namespace

Outcome appendToJournal(const fs::path& folder, std::int64_t edit, const SessionDocument& before,
                        const SessionDocument& after)
{
    const Json step = stepToJson(edit, before, after);
    return appendLine(folder / kJournal, step.dump(-1, ' ', false, Json::error_handler_t::replace));
}

Result<Replayed> replayJournal(const fs::path& folder, Json json)
{
    auto plain = sessionFromJson(json);
    if (!plain) return plain.error();
    Replayed out{std::move(*plain), isWhole(json, "edit") ? json["edit"].get<std::int64_t>() : 0, 0};
    std::ifstream file(folder / kJournal);
    std::int64_t edit = out.edit;
    std::size_t steps = 0;
    for (std::string line; std::getline(file, line);) {
        const Json step = Json::parse(line, nullptr, false);
        if (!step.is_object() || !isWhole(step, "edit")) break;
        const auto number = step["edit"].get<std::int64_t>();
        if (number <= out.edit) continue; // saved already
        if (number != edit + 1 || !apply(step, json)) break;
        edit = number;
        ++steps;
    }
    if (steps == 0) return out;
    auto document = sessionFromJson(json);
    if (!document) {
        std::error_code ignored;
        fs::rename(folder / kJournal, folder / "edits.unread.jsonl", ignored);
        return out;
    }
    return Replayed{std::move(*document), edit, steps};
}

void clearJournal(const fs::path& folder)
{
    std::error_code ignored;
    fs::remove(folder / kJournal, ignored);
}

} // namespace gristle::core
