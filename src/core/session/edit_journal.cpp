#include "core/session/edit_journal.h"

#include "core/audio/file_place.h"
#include "core/units/json_text.h"

#include <algorithm>
#include <sstream>

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

/// Whether a step can be put on top of a session of so many songs.
bool fits(const Json& step, std::size_t songs)
{
    if (!isWhole(step, "songs") || !step.contains("song") || !step["song"].is_array()) return false;
    const auto count = step["songs"].get<std::size_t>();
    if (count > songs + step["song"].size()) return false;
    const auto head = step.find("head");
    if (head != step.end() && !head->is_object()) return false;
    return std::ranges::all_of(step["song"], [&](const Json& entry) {
        return entry.is_array() && entry.size() == 2 && entry[0].is_number_unsigned() &&
               entry[0].get<std::size_t>() < count;
    });
}

/// Puts a step on top of a session; false where it does not fit, and then nothing is changed.
bool apply(const Json& step, Json& session)
{
    if (!session.contains("song")) session["song"] = Json::array();
    Json& songs = session["song"];
    if (!songs.is_array() || !fits(step, songs.size())) return false;
    const auto count = step["songs"].get<std::size_t>();
    while (songs.size() < count) songs.push_back(Json::object());
    while (songs.size() > count) songs.erase(songs.size() - 1);
    for (const Json& entry : step["song"]) songs[entry[0].get<std::size_t>()] = entry[1];
    if (const auto head = step.find("head"); head != step.end())
        for (const auto& [key, value] : head->items()) session[key] = value;
    return true;
}

struct Taken {
    std::size_t steps = 0, unread = 0;
};

/// Puts at most `most` steps of a journal on top of a session whose last edit is `edit`.
Taken take(const std::string& journal, Json& json, std::int64_t edit, std::size_t most)
{
    Taken out;
    std::istringstream lines(journal);
    for (std::string line; std::getline(lines, line);) {
        const Json step = out.unread > 0 ? Json() : parseJson<Json>(line);
        const bool isStep = step.is_object() && isWhole(step, "edit");
        const auto number = isStep ? step["edit"].get<std::int64_t>() : -1;
        if (isStep && number <= edit) continue; // saved already
        if (isStep && out.steps < most && number == edit + 1 + std::int64_t(out.steps) && apply(step, json))
            ++out.steps;
        else
            ++out.unread;
    }
    return out;
}

} // namespace

Outcome appendToJournal(const fs::path& folder, std::int64_t edit, const SessionDocument& before,
                        const SessionDocument& after)
{
    return appendLine(folder / kJournal, jsonText(stepToJson(edit, before, after)));
}

Result<Replayed> replayJournal(const fs::path& folder, Json json)
{
    auto plain = sessionFromJson(json);
    if (!plain) return plain.error();
    Replayed out{std::move(*plain), isWhole(json, "edit") ? json["edit"].get<std::int64_t>() : 0, 0, 0};
    constexpr std::size_t kMostBytes = std::size_t{1} << 31;
    const auto text = readText(folder / kJournal, kMostBytes);
    if (!text && text.error().code == ErrorCode::FileMissing) return out;
    if (!text) return text.error();
    const Json saved = json;
    std::size_t most = SIZE_MAX;
    while (true) { // again with fewer steps where what they say is no session: the longest stretch that is one
        const Taken taken = take(*text, json, out.edit, most);
        out.unread = taken.unread;
        if (taken.steps == 0) return out;
        if (auto document = sessionFromJson(json))
            return Replayed{std::move(*document), out.edit + std::int64_t(taken.steps), taken.steps, taken.unread};
        most = taken.steps - 1;
        json = saved;
    }
}

Result<std::string> setJournalAside(const fs::path& folder)
{
    std::string name = "edits.unread.jsonl";
    for (int n = 2; isThere(folder / name); ++n) name = "edits.unread " + std::to_string(n) + ".jsonl";
    const auto text = readText(folder / kJournal);
    if (!text) return text.error();
    if (const auto wrote = writeTextAtomically(folder / name, *text); !wrote) return wrote.error();
    return name;
}

Outcome clearJournal(const fs::path& folder)
{
    std::error_code failure;
    fs::remove(folder / kJournal, failure);
    if (failure) return writeError(folder / kJournal, failure.value());
    return Done{};
}

} // namespace gristle::core
