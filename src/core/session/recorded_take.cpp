#include "core/session/recorded_take.h"

#include "core/session/take_place.h"

#include "core/audio/audio_reader.h"
#include "core/audio/file_place.h"
#include "core/audio/take_writer.h"
#include "core/session/recording_remains.h"
#include "core/session/take_import.h"
#include "core/units/json_text.h"
#include "core/units/text.h"

#include <algorithm>
#include <cerrno>
#include <fmt/format.h>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

using Json = nlohmann::ordered_json;
constexpr std::int64_t kCopyFrames = 1 << 16;
constexpr const char* kMark = ".recording ";    // hidden: nothing of the session yet
constexpr const char* kUnreadMark = ".unread "; // a recording with a broken header, whose samples were salvaged

fs::path noteOf(const fs::path& recording) { return fs::path(recording).replace_extension(".json"); }

Json toJson(const RecordingNote& n)
{
    Json out = {{"recorded", n.recorded},
                {"source", n.source},
                {"input", {{"full_scale_dbu", n.input.dbuAtFullScale}, {"assumed", n.input.assumed}}}};
    if (n.atS != 0.0) out["at_s"] = n.atS;
    if (n.layout)
        out["layout"] = {{"sample_rate_hz", n.layout->sampleRateHz},
                         {"channels", n.layout->channels},
                         {"bits", n.layout->format == SampleFormat::Int16   ? 16
                                  : n.layout->format == SampleFormat::Int24 ? 24
                                                                            : 32}};
    out["playing"] = {n.playing.pick, n.playing.cloth, n.playing.capo, n.playing.stringsSince};
    out["target"] = Json::array();
    for (const RecordingTarget& t : n.targets)
        out["target"].push_back({{"song", t.song}, {"part", t.part}, {"layer", t.layer}, {"channel", t.channel}});
    return out;
}

/// What the note says besides of a recording that is being made a take.
struct Finishing {
    std::string file;       ///< the name that it has got already; empty: none
    bool hasBroken = false; ///< its samples were salvaged
};

Result<RecordingNote> readNote(const fs::path& recording, Finishing& finishing)
{
    const auto text = readText(noteOf(recording), 1 << 20);
    if (!text && text.error().code == ErrorCode::FileMissing)
        return Error{ErrorCode::BadDocument,
                     shownName(recording) + ": this recording has no note; it stays where it is",
                     "bring it in as a file"};
    if (!text) return text.error();
    try {
        const Json json = parseJson<Json>(*text);
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
        if (const auto at = json.find("layout"); at != json.end()) {
            const int bits = at->at("bits").get<int>();
            const SampleLayout layout{at->at("sample_rate_hz").get<int>(), at->at("channels").get<int>(),
                                      bits == 16   ? SampleFormat::Int16
                                      : bits == 24 ? SampleFormat::Int24
                                                   : SampleFormat::Float32};
            if (layout.sampleRateHz > 0 && layout.channels > 0 && layout.channels <= 64) n.layout = layout;
        }
        finishing.file = json.value("finished", std::string());
        if (!finishing.file.empty() && !staysInside(finishing.file)) finishing.file.clear();
        finishing.hasBroken = json.value("broken_header", false);
        return n;
    } catch (const Json::exception&) {
        return Error{ErrorCode::BadDocument,
                     shownName(noteOf(recording)) + ": the note of a recording is broken; both stay where they are",
                     "bring the recording beside it in as a file"};
    }
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

std::string seconds(std::int64_t frames, int rateHz) { return fmt::format("{:.1f} s", double(frames) / rateHz); }

/// A file that holds all samples of the recording and waits to be named: itself, or a copy beside `to`.
Result<fs::path> wholeFile(const fs::path& recording, const Remains& remains, const fs::path& to,
                           const RecordingNote& note)
{
    return remains.kind == Remains::Kind::Whole ? recording : copySamples(recording, remains, to, note);
}

/// Gives a recording that is still there its name, or the name that an earlier try gave to its copy; the name.
Result<std::string> nameRecording(const fs::path& folder, const fs::path& recording, const Remains& remains,
                                  const RecordingNote& note, const Finishing& before)
{
    const RecordingTarget first = note.targets.empty() ? RecordingTarget{} : note.targets.front();
    const std::string name = freeName(folder, "audio", safeStem(first.part + " " + first.layer));
    const auto whole = wholeFile(recording, remains, folder / name, note);
    if (!whole) return whole.error();
    const bool isCopy = *whole != recording;
    const auto dropCopy = [&] {
        if (isCopy) discard(*whole);
    };
    if (isCopy && !before.file.empty() && isThere(folder / before.file)) { // is it this copy, or did another take come?
        const auto there = hashFile(folder / before.file), own = hashFile(*whole);
        if (there && own && *there == *own) return dropCopy(), before.file;
    }
    // The new name is noted first: a crash between the two names nothing twice.
    Json json = toJson(note);
    json["finished"] = name;
    if (remains.kind == Remains::Kind::BrokenHeader) json["broken_header"] = true;
    if (const auto wrote = writeTextAtomically(noteOf(recording), jsonText(json, 2)); !wrote)
        return dropCopy(), wrote.error();
    if (const auto placed = putInNewPlace(*whole, folder / name); !placed) return dropCopy(), placed.error();
    return name;
}

} // namespace

Result<fs::path> beginRecording(const fs::path& folder, const RecordingNote& note)
{
    std::error_code failed;
    fs::create_directories(folder / "audio", failed);
    // A recording of the same second may have got its name, and still need its note.
    const std::string stem = kMark + safeStem(note.recorded);
    fs::path recording = folder / freeName(folder, "audio", stem);
    for (int k = 2; isThere(noteOf(recording)); ++k)
        recording = folder / freeName(folder, "audio", stem + " " + std::to_string(k));
    if (const auto wrote = renote(recording, note); !wrote) return wrote.error();
    return recording;
}

Result<std::vector<RecordedTake>> finishRecording(const fs::path& folder, const fs::path& recording,
                                                  const std::vector<std::int64_t>& gaps, BrokenHeader ifBroken)
{
    Finishing finishing;
    const auto note = readNote(recording, finishing);
    if (!note) return note.error();
    const auto remains = lookAt(recording, *note);
    if (!remains) return remains.error();
    if (remains->kind == Remains::Kind::Nothing) {
        if (finishing.file.empty() || !isThere(folder / finishing.file)) { // else it has its name already
            dropRecording(recording);
            return std::vector<RecordedTake>{};
        }
    } else {
        if (remains->kind == Remains::Kind::BrokenHeader && ifBroken == BrokenHeader::Tell)
            return Error{ErrorCode::BadDocument,
                         shownName(recording) +
                             ": the header of this recording is damaged; it stays where it is, and " +
                             seconds(remains->frames, remains->layout.sampleRateHz) + " of samples lie behind it",
                         "salvage them (gristle-cli session salvage), or put a copy of the file in its place"};
        auto name = nameRecording(folder, recording, *remains, *note, finishing);
        if (!name) return name.error();
        finishing.file = std::move(*name);
    }
    return takesOf(folder, finishing.file, *note, {0, 0, note->atS}, gaps);
}

void letGo(const fs::path& recording)
{
    Finishing finishing;
    const auto note = readNote(recording, finishing);
    if (!note) return; // nothing is let go of that is not understood
    if (finishing.hasBroken && isThere(recording)) {
        const std::string name = recording.filename().string().substr(std::string_view(kMark).size());
        std::error_code ignored;
        fs::rename(recording, recording.parent_path() / (kUnreadMark + name), ignored);
        forgetNote(recording);
        return;
    }
    dropRecording(recording);
}

Outcome renote(const fs::path& recording, const RecordingNote& note)
{
    return writeTextAtomically(noteOf(recording), jsonText(toJson(note), 2));
}

Result<std::vector<RecordedTake>> cutTakes(const fs::path& folder, const fs::path& recording, const TakeCut& cut,
                                           const std::vector<std::int64_t>& gaps)
{
    Finishing finishing;
    const auto note = readNote(recording, finishing);
    if (!note) return note.error();
    auto reader = AudioReader::open(recording);
    if (!reader) return reader.error();
    const AudioInfo& info = reader->info();
    const std::int64_t frames = cut.frames;
    if (frames <= 0 || cut.first < 0 || cut.first + frames > info.frames)
        return Error{ErrorCode::Empty, shownName(recording) + ": that stretch is not there yet",
                     "wait until it is written"};
    const RecordingTarget first = note->targets.empty() ? RecordingTarget{} : note->targets.front();
    const std::string name = freeName(folder, "audio", safeStem(first.part + " " + first.layer));
    const SampleFormat format = info.isFloat ? SampleFormat::Float32 : SampleFormat::Int24;
    const fs::path temporary = placeBeside(folder / name);
    const auto copy = [&]() -> Outcome {
        auto writer = TakeWriter::create(
            temporary, {info.sampleRateHz, info.channels, format, first.part + ", " + first.layer, note->recorded});
        if (!writer) return writer.error();
        if (const auto wound = reader->seek(cut.first); !wound) return wound;
        for (std::int64_t left = frames; left > 0;) {
            const auto got = reader->readInterleaved(std::size_t(std::min<std::int64_t>(left, kCopyFrames)));
            if (!got) return got.error();
            if (got->empty()) return readError(recording, EIO);
            if (const auto wrote = writer->write(*got); !wrote) return wrote;
            left -= std::int64_t(got->size() / info.channels);
        }
        if (const auto closed = writer->close(); !closed) return closed;
        return putInNewPlace(temporary, folder / name);
    };
    if (const auto copied = copy(); !copied) {
        discard(copied.error().code == ErrorCode::NotConfirmed ? folder / name : temporary);
        return copied.error();
    }
    std::vector<std::int64_t> inside;
    for (const std::int64_t gap : gaps)
        if (gap >= cut.first && gap < cut.first + frames) inside.push_back(gap - cut.first);
    return takesOf(folder, name, *note, cut, inside);
}

void dropRecording(const fs::path& recording)
{
    discard(recording);
    forgetNote(recording);
}

void forgetNote(const fs::path& recording) { discard(noteOf(recording)); }

std::vector<fs::path> unfinishedRecordings(const fs::path& folder)
{
    std::vector<fs::path> out;
    std::error_code failed;
    for (fs::directory_iterator at(folder / "audio", failed), end; !failed && at != end; at.increment(failed)) {
        const fs::path& path = at->path();
        const bool isOne = path.extension() == ".json" || path.extension() == ".wav";
        if (isOne && path.filename().string().starts_with(kMark))
            out.push_back(fs::path(path).replace_extension(".wav"));
    }
    std::ranges::sort(out);
    out.erase(std::ranges::unique(out).begin(), out.end());
    return out;
}

void addTakes(SessionDocument& document, const std::vector<RecordedTake>& takes)
{
    for (const auto& [target, take] : takes) {
        SessionDocument after = document;
        const LayerPath at = addTake(after, {target.song, target.part, target.layer}, take);
        const auto& own = findLayer(after, at)->takes;
        const bool isThere = std::ranges::count(own, take.file, &Take::file) > 1;
        if (!isThere) document = std::move(after);
    }
}

Result<std::vector<RecordedTake>> keepRecording(SessionFolder& session, const fs::path& recording,
                                                const std::vector<std::int64_t>& gaps, const std::string& now,
                                                const std::string& text, BrokenHeader ifBroken)
{
    auto takes = finishRecording(session.path(), recording, gaps, ifBroken);
    if (!takes || takes->empty()) return takes;
    SessionDocument document = session.document();
    addTakes(document, *takes);
    if (const auto saved = session.save(document); !saved) return saved.error();
    letGo(recording);
    const RecordingTarget& t = takes->front().target;
    if (const auto logged = session.log({now, "take", text, t.song, t.part, t.layer}); !logged) return logged.error();
    return takes;
}

} // namespace gristle::core
