#include "core/session/recorded_take.h"

#include "core/audio/audio_reader.h"
#include "core/audio/file_place.h"
#include "core/session/take_import.h"

#include <algorithm>
#include <nlohmann/json.hpp>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

using Json = nlohmann::ordered_json;
constexpr const char* kMark = ".recording "; // hidden: nothing of the session yet

fs::path noteOf(const fs::path& recording) { return fs::path(recording).replace_extension(".json"); }

Json toJson(const RecordingNote& n)
{
    Json out = {{"recorded", n.recorded},
                {"source", n.source},
                {"input", {{"full_scale_dbu", n.input.dbuAtFullScale}, {"assumed", n.input.assumed}}}};
    out["target"] = Json::array();
    for (const RecordingTarget& t : n.targets)
        out["target"].push_back({{"song", t.song}, {"part", t.part}, {"layer", t.layer}, {"channel", t.channel}});
    return out;
}

/// @param finished  the name that the recording has got already, where that is noted
Result<RecordingNote> readNote(const fs::path& recording, std::string& finished)
{
    const auto text = readText(noteOf(recording), 1 << 20);
    if (!text) return text.error();
    try {
        const Json json = Json::parse(*text);
        RecordingNote n;
        n.recorded = json.at("recorded").get<std::string>();
        n.source = json.at("source").get<std::string>();
        n.input = {json.at("input").at("full_scale_dbu").get<double>(), json.at("input").at("assumed").get<bool>()};
        for (const Json& t : json.at("target"))
            n.targets.push_back({t.at("song").get<std::string>(), t.at("part").get<std::string>(),
                                 t.at("layer").get<std::string>(), t.at("channel").get<int>()});
        finished = json.value("finished", std::string());
        if (!finished.empty() && !staysInside(finished)) finished.clear();
        return n;
    } catch (const Json::exception&) {
        return Error{ErrorCode::BadDocument,
                     noteOf(recording).filename().string() + ": the note of a recording is broken",
                     "bring the recording beside it in as a file"};
    }
}

template<typename T> T& named(std::vector<T>& list, const std::string& name)
{
    const auto at = std::ranges::find(list, name, &T::name);
    if (at != list.end()) return *at;
    list.emplace_back().name = name;
    return list.back();
}

} // namespace

Result<fs::path> beginRecording(const fs::path& folder, const RecordingNote& note)
{
    std::error_code failed;
    fs::create_directories(folder / "audio", failed);
    const fs::path recording = folder / freeName(folder, "audio", kMark + safeStem(note.recorded));
    if (const auto wrote = writeTextAtomically(noteOf(recording), toJson(note).dump(2)); !wrote) return wrote.error();
    return recording;
}

Result<std::vector<RecordedTake>> finishRecording(const fs::path& folder, const fs::path& recording,
                                                  const std::vector<std::int64_t>& gaps)
{
    std::string finished;
    const auto note = readNote(recording, finished);
    if (!note) return note.error();
    if (finished.empty() || !fs::exists(folder / finished)) {
        std::int64_t frames = 0;
        if (const auto reader = AudioReader::open(recording); reader) frames = reader->info().frames;
        if (frames == 0) {
            std::error_code ignored;
            fs::remove(recording, ignored);
            forgetNote(recording);
            return std::vector<RecordedTake>{};
        }
        const RecordingTarget first = note->targets.empty() ? RecordingTarget{} : note->targets.front();
        finished = freeName(folder, "audio", safeStem(first.part + " " + first.layer));
        // The new name is noted first: a crash between the two renames nothing twice.
        Json json = toJson(*note);
        json["finished"] = finished;
        if (const auto wrote = writeTextAtomically(noteOf(recording), json.dump(2)); !wrote) return wrote.error();
        if (const auto placed = putInPlace(recording, folder / finished); !placed) return placed.error();
    }
    const auto reader = AudioReader::open(folder / finished);
    if (!reader) return reader.error();
    auto hash = hashFile(folder / finished);
    if (!hash) return hash.error();
    std::vector<RecordedTake> out;
    for (const RecordingTarget& target : note->targets) {
        Take take;
        take.file = finished;
        take.hash = *hash;
        take.frames = reader->info().frames;
        take.sampleRateHz = reader->info().sampleRateHz;
        take.channels = int(reader->info().channels);
        take.channel = take.channels > 1 ? std::clamp(target.channel, 1, take.channels) : 0;
        take.recorded = note->recorded;
        take.source = note->source;
        take.input = note->input;
        take.gaps = gaps;
        out.push_back({target, std::move(take)});
    }
    return out;
}

void forgetNote(const fs::path& recording)
{
    std::error_code ignored;
    fs::remove(noteOf(recording), ignored);
}

std::vector<fs::path> unfinishedRecordings(const fs::path& folder)
{
    std::vector<fs::path> out;
    std::error_code failed;
    for (const auto& entry : fs::directory_iterator(folder / "audio", failed))
        if (entry.path().extension() == ".json" && entry.path().filename().string().starts_with(kMark))
            out.push_back(fs::path(entry.path()).replace_extension(".wav"));
    std::ranges::sort(out);
    return out;
}

void addTakes(SessionDocument& document, const std::vector<RecordedTake>& takes)
{
    for (const RecordedTake& recorded : takes) {
        Layer& layer = named(named(named(document.songs, recorded.target.song).parts, recorded.target.part).layers,
                             recorded.target.layer);
        if (std::ranges::find(layer.takes, recorded.take.file, &Take::file) != layer.takes.end()) continue;
        layer.takes.push_back(recorded.take);
        layer.chosen = layer.takes.size() - 1;
        if (document.sampleRateHz == 0) document.sampleRateHz = recorded.take.sampleRateHz;
    }
}

Result<std::vector<RecordedTake>> keepRecording(SessionFolder& session, const fs::path& recording,
                                                const std::vector<std::int64_t>& gaps, const std::string& now,
                                                const std::string& text)
{
    auto takes = finishRecording(session.path(), recording, gaps);
    if (!takes || takes->empty()) return takes;
    SessionDocument document = session.document();
    addTakes(document, *takes);
    if (const auto saved = session.save(document); !saved) return saved.error();
    forgetNote(recording);
    const RecordingTarget& t = takes->front().target;
    if (const auto logged = session.log({now, "take", text, t.song, t.part, t.layer}); !logged) return logged.error();
    return takes;
}

} // namespace gristle::core
