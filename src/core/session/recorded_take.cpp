#include "core/session/recorded_take.h"

#include "core/audio/audio_reader.h"
#include "core/audio/file_place.h"
#include "core/audio/take_writer.h"
#include "core/session/take_import.h"

#include <algorithm>
#include <nlohmann/json.hpp>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

using Json = nlohmann::ordered_json;
constexpr std::int64_t kCopyFrames = 1 << 16;
constexpr const char* kMark = ".recording "; // hidden: nothing of the session yet

fs::path noteOf(const fs::path& recording) { return fs::path(recording).replace_extension(".json"); }

Json toJson(const RecordingNote& n)
{
    Json out = {{"recorded", n.recorded},
                {"source", n.source},
                {"input", {{"full_scale_dbu", n.input.dbuAtFullScale}, {"assumed", n.input.assumed}}}};
    if (n.atS != 0.0) out["at_s"] = n.atS;
    out["playing"] = {n.playing.pick, n.playing.cloth, n.playing.capo, n.playing.stringsSince};
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
        n.atS = json.value("at_s", 0.0);
        if (const auto p = json.find("playing"); p != json.end())
            n.playing = {p->at(0).get<std::string>(), p->at(1).get<std::string>(), p->at(2).get<int>(),
                         p->at(3).get<std::string>()};
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

/// A take of a finished file for each target of its note.
Result<std::vector<RecordedTake>> takesOf(const fs::path& folder, const std::string& file, const RecordingNote& note,
                                          const TakeCut& cut, const std::vector<std::int64_t>& gaps)
{
    const auto reader = AudioReader::open(folder / file);
    if (!reader) return reader.error();
    auto hash = hashFile(folder / file);
    if (!hash) return hash.error();
    std::vector<RecordedTake> out;
    for (const RecordingTarget& target : note.targets) {
        Take take;
        take.file = file;
        take.hash = *hash;
        take.frames = reader->info().frames;
        take.sampleRateHz = reader->info().sampleRateHz;
        take.channels = int(reader->info().channels);
        take.channel = take.channels > 1 ? std::clamp(target.channel, 1, take.channels) : 0;
        take.recorded = note.recorded;
        take.source = note.source;
        take.input = note.input;
        take.gaps = gaps;
        take.atS = cut.atS, take.spanFromS = cut.spanFromS, take.spanToS = cut.spanToS;
        take.playing = note.playing;
        out.push_back({target, std::move(take)});
    }
    return out;
}

} // namespace

Result<fs::path> beginRecording(const fs::path& folder, const RecordingNote& note)
{
    std::error_code failed;
    fs::create_directories(folder / "audio", failed);
    // A recording of the same second may have got its name, and still need its note.
    const std::string stem = kMark + safeStem(note.recorded);
    fs::path recording = folder / freeName(folder, "audio", stem);
    for (int k = 2; fs::exists(noteOf(recording)); ++k)
        recording = folder / freeName(folder, "audio", stem + " " + std::to_string(k));
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
    return takesOf(folder, finished, *note, {0, 0, note->atS}, gaps);
}

Outcome renote(const fs::path& recording, const RecordingNote& note)
{
    return writeTextAtomically(noteOf(recording), toJson(note).dump(2));
}

Result<std::vector<RecordedTake>> cutTakes(const fs::path& folder, const fs::path& recording, const TakeCut& cut,
                                           const std::vector<std::int64_t>& gaps)
{
    std::string finished;
    const auto note = readNote(recording, finished);
    if (!note) return note.error();
    auto reader = AudioReader::open(recording);
    if (!reader) return reader.error();
    const AudioInfo& info = reader->info();
    const std::int64_t frames = cut.frames;
    if (frames <= 0 || cut.first < 0 || cut.first + frames > info.frames)
        return Error{ErrorCode::Empty, recording.filename().string() + ": that stretch is not there yet",
                     "wait until it is written"};
    const RecordingTarget first = note->targets.empty() ? RecordingTarget{} : note->targets.front();
    const std::string name = freeName(folder, "audio", safeStem(first.part + " " + first.layer));
    const SampleFormat format = info.isFloat ? SampleFormat::Float32 : SampleFormat::Int24;
    auto writer = TakeWriter::create(
        folder / name, {info.sampleRateHz, info.channels, format, first.part + ", " + first.layer, note->recorded});
    if (!writer) return writer.error();
    if (const auto wound = reader->seek(cut.first); !wound) return wound.error();
    for (std::int64_t left = frames; left > 0;) {
        const auto got = reader->readInterleaved(std::size_t(std::min<std::int64_t>(left, kCopyFrames)));
        if (!got) return got.error();
        if (got->empty()) break;
        if (const auto wrote = writer->write(*got); !wrote) return wrote.error();
        left -= std::int64_t(got->size() / info.channels);
    }
    if (const auto closed = writer->close(); !closed) return closed.error();
    std::vector<std::int64_t> inside;
    for (const std::int64_t gap : gaps)
        if (gap >= cut.first && gap < cut.first + frames) inside.push_back(gap - cut.first);
    return takesOf(folder, name, *note, cut, inside);
}

void dropRecording(const fs::path& recording)
{
    std::error_code ignored;
    fs::remove(recording, ignored);
    forgetNote(recording);
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
        if (!recorded.take.isPunch() || layer.takes.size() == 1) {
            layer.chosen = layer.takes.size() - 1;
            layer.pieces.clear(); // a new one counts as a whole
        }
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
