#include "core/session/session_folder.h"

#include "core/audio/audio_writer.h"
#include "core/audio/file_place.h"
#include "core/impulse/loudspeaker_model.h"
#include "core/session/edit_journal.h"
#include "core/session/take_import.h"
#include "core/units/json_text.h"
#include "core/units/text.h"

#include <cerrno>
#include <ctime>
#include <fcntl.h>
#include <fmt/format.h>
#include <fstream>
#include <set>
#include <sys/file.h>
#include <unistd.h>

namespace gristle::core {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

constexpr const char* kDocument = "session.json";
constexpr const char* kLog = "log.jsonl";
constexpr const char* kLoudspeaker = "impulses/closed back, near.wav";

Outcome makeFolders(const fs::path& folder)
{
    for (const char* sub : {"", "audio", "impulses", "rigs", "cache"}) {
        std::error_code failure;
        fs::create_directories(folder / sub, failure);
        if (failure) return writeError(folder / sub / "session", failure.value());
    }
    return Done{};
}

std::vector<std::string> filesIn(const fs::path& base, const char* folder, const char* extension)
{
    std::vector<std::string> out;
    std::error_code failure;
    for (fs::directory_iterator at(base / folder, failure), end; !failure && at != end; at.increment(failure)) {
        const auto name = at->path().filename().string();
        if (at->path().extension() == extension && !name.starts_with('.'))
            out.push_back(std::string(folder) + "/" + name);
    }
    std::ranges::sort(out);
    return out;
}

RigDocument firstRig()
{
    RigDocument rig;
    rig.name = "crunch, plain";
    rig.outputDb = 8.0; // about as loud as the DI
    auto chain = parseRecallLine(
        std::string("drive drive=10 level=2 | amplifier drive=5.5 bass=4 middle=6 treble=5.5 master=4 | "
                    "impulse file=\"") +
        kLoudspeaker + "\" level=matched");
    rig.chain = std::move(*chain);
    return rig;
}

} // namespace

struct SessionFolder::State {
    fs::path folder;
    SessionDocument document;
    std::int64_t edit = 0;             ///< counts up with every change of the document
    std::vector<std::string> unforced; ///< files that the next save forces to disk before the document names them
    std::vector<std::string> warnings;
    int lock = -1;
    ~State()
    {
        if (lock >= 0) ::close(lock);
    }
};

SessionFolder::SessionFolder(std::unique_ptr<State> state) : state_(std::move(state)) {}
SessionFolder::SessionFolder(SessionFolder&&) noexcept = default;
SessionFolder& SessionFolder::operator=(SessionFolder&&) noexcept = default;
SessionFolder::~SessionFolder() = default;

const fs::path& SessionFolder::path() const noexcept { return state_->folder; }
const SessionDocument& SessionFolder::document() const noexcept { return state_->document; }

namespace {

/// Takes the lock of a session: its descriptor, or why not.
Result<int> takeLock(const fs::path& folder)
{
    const fs::path file = folder / ".lock";
    const int handle = ::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
    if (handle < 0) return writeError(file, errno);
    if (::flock(handle, LOCK_EX | LOCK_NB) == 0) return handle;
    ::close(handle);
    return Error{ErrorCode::Locked, shownName(folder) + ": it is open in another Gristle",
                 "close it there, then try again"};
}

} // namespace

Result<SessionFolder> SessionFolder::create(const fs::path& folder, const SessionDocument& document,
                                            const std::string& now)
{
    std::error_code ignored;
    if (isThere(folder / kDocument))
        return Error{ErrorCode::WriteFailed, shownName(folder) + ": there is a session in this folder already",
                     "choose another folder or open that one"};
    if (isThere(folder) && !fs::is_directory(folder, ignored))
        return Error{ErrorCode::WriteFailed, shownName(folder) + ": there is a file of this name already",
                     "choose another name"};
    const fs::path parent = fs::absolute(folder.has_filename() ? folder : folder.parent_path(), ignored).parent_path();
    if (!fs::is_directory(parent, ignored)) return writeError(folder, ENOENT);
    if (const auto made = makeFolders(folder); !made) return made.error();
    const auto lock = takeLock(folder);
    if (!lock) return lock.error();
    auto state = std::make_unique<State>();
    state->folder = folder;
    state->lock = *lock;
    SessionFolder session(std::move(state));

    const Recording speaker = loudspeakerImpulse({}, 48000);
    if (const auto wrote = writeRecording(folder / kLoudspeaker, speaker); !wrote) return wrote.error();
    Json gain = {{"matched_gain_db", std::round(matchedGainDb(speaker) * 100.0) / 100.0},
                 {"about", "a modelled loudspeaker, closed at the back, and a near microphone; an estimate"}};
    if (const auto wrote = writeTextAtomically((folder / kLoudspeaker).string() + ".json", jsonText(gain, 2) + "\n");
        !wrote)
        return wrote.error();
    RigDocument rig = firstRig();
    if (const auto saved = session.saveRig(rig); !saved) return saved.error();
    if (const auto saved = session.save(document); !saved) return saved.error();
    const auto logged = session.log({now, "session", "Session \"" + document.name + "\" made", "", "", ""});
    if (!logged) return logged.error();
    return session;
}

Result<SessionFolder> SessionFolder::open(const fs::path& folder, Access access)
{
    std::error_code ignored;
    if (!fs::is_directory(folder, ignored))
        return Error{ErrorCode::FileMissing, validText(folder.string()) + ": there is no such folder",
                     "check the name"};
    if (!isThere(folder / kDocument))
        return Error{ErrorCode::FileMissing, validText(folder.string()) + ": there is no session in this folder",
                     "choose a folder that holds a session.json"};
    auto state = std::make_unique<State>();
    state->folder = folder;
    if (access == Access::Write) {
        const auto lock = takeLock(folder);
        if (!lock) return lock.error();
        state->lock = *lock;
    }
    const auto text = readText(folder / kDocument);
    if (!text) return text.error();
    auto json = parseJson<Json>(*text);
    if (json.is_discarded())
        return Error{ErrorCode::BadDocument, "session.json: it is no valid JSON", "mend the file or go back to a copy"};
    auto replayed = replayJournal(folder, std::move(json));
    if (!replayed) return replayed.error();
    state->document = std::move(replayed->document);
    state->edit = replayed->edit;
    SessionFolder session(std::move(state));
    auto& warnings = session.state_->warnings;
    if (replayed->unread > 0) {
        const std::string lost = fmt::format(
            "{} of the edits since the last save cannot be read (edits.jsonl is damaged)", replayed->unread);
        if (access == Access::Read) {
            warnings.push_back(lost);
        } else {
            const auto aside = setJournalAside(folder);
            if (!aside) return aside.error();
            warnings.push_back(lost + "; all up to there are in the session, and the damaged journal is kept as " +
                               *aside);
        }
    }
    if (access == Access::Write && (replayed->steps > 0 || replayed->unread > 0)) {
        // what a crash left in the journal goes to its place
        if (const auto saved = session.save(session.document()); !saved) return saved.error();
    }
    if (access == Access::Write) session.dropDeadParts();
    return session;
}

const std::vector<std::string>& SessionFolder::warnings() const noexcept { return state_->warnings; }

Outcome SessionFolder::save(const SessionDocument& document)
{
    PendingSave pending = pendingSave();
    pending.document = document;
    ++pending.edit;
    const auto wrote = writeSave(pending);
    if (!wrote && wrote.error().code != ErrorCode::NotConfirmed) return wrote;
    state_->document = document;
    state_->edit = pending.edit;
    if (wrote) settle(pending);
    return wrote;
}

Outcome SessionFolder::put(const SessionDocument& document)
{
    const auto noted = appendToJournal(state_->folder, state_->edit + 1, state_->document, document);
    if (!noted) return noted;
    state_->document = document;
    ++state_->edit;
    return Done{};
}

PendingSave SessionFolder::pendingSave() const
{
    return {state_->folder, state_->document, state_->edit, state_->unforced};
}

void SessionFolder::settle(const PendingSave& done)
{
    std::erase_if(state_->unforced, [&](const auto& file) { return std::ranges::count(done.unforced, file) > 0; });
    if (done.edit == state_->edit) (void)clearJournal(state_->folder); // a step that is saved is passed over
}

Outcome writeSave(const PendingSave& pending)
{
    for (const auto& file : pending.unforced)
        if (const auto forced = forceToDisk(pending.folder / file); !forced) return forced;
    Json json = sessionToJson(pending.document);
    json["edit"] = pending.edit;
    return writeTextAtomically(pending.folder / kDocument, jsonText(json, 1) + "\n");
}

Result<std::string> SessionFolder::saveRig(RigDocument& rig)
{
    const std::string stem = safeStem(rig.name);
    const auto nameOf = [&](int version) { return "rigs/" + stem + ".v" + std::to_string(version) + ".json"; };
    int version = 1;
    while (isThere(state_->folder / nameOf(version))) ++version;
    rig.version = version;
    if (const auto wrote = replaceRig(nameOf(version), rig); !wrote) return wrote.error();
    return nameOf(version);
}

Outcome SessionFolder::replaceRig(const std::string& file, const RigDocument& rig)
{
    const auto wrote = writeTextWhole(state_->folder / file, jsonText(rigToJson(rig), 1) + "\n");
    if (wrote && std::ranges::count(state_->unforced, file) == 0) state_->unforced.push_back(file);
    return wrote;
}

std::vector<std::string> SessionFolder::rigFiles() const
{
    auto files = filesIn(state_->folder, "rigs", ".json");
    const auto split = [](const std::string& name) {
        const auto at = name.rfind(".v");
        return std::pair(name.substr(0, at), at == std::string::npos ? 0 : -std::atoi(name.c_str() + at + 2));
    };
    std::ranges::sort(files, {}, split);
    return files;
}

std::vector<std::string> SessionFolder::impulseFiles() const { return filesIn(state_->folder, "impulses", ".wav"); }

namespace {

/// Hashes by which an impulse is known again: those that were written down beside it, and its own where it is there.
std::vector<std::string> contentOf(const fs::path& impulse)
{
    std::vector<std::string> out;
    if (const auto own = hashFile(impulse)) out.push_back(*own);
    if (const auto text = readText(impulse.string() + ".json", 1u << 16))
        if (const auto json = parseJson<Json>(*text); json.is_object())
            for (const char* key : {"hash", "source_hash"})
                if (const auto at = json.find(key); at != json.end() && at->is_string())
                    out.push_back(at->get<std::string>());
    return out;
}

} // namespace

namespace {

/// What is known of an impulse beside its file: the gain that keeps the loudness, its content, and where it is from.
Outcome describeImpulse(const fs::path& file, const Recording& impulse, const Json& from)
{
    const auto own = hashFile(file);
    if (!own) return own.error();
    Json told = {{"matched_gain_db", std::round(matchedGainDb(impulse) * 100.0) / 100.0}, {"hash", *own}};
    told.update(from);
    return writeTextAtomically(file.string() + ".json", jsonText(told, 2) + "\n");
}

} // namespace

Result<std::string> SessionFolder::importImpulse(const fs::path& file)
{
    const auto hash = hashFile(file);
    if (!hash) return hash.error();
    for (const auto& known : impulseFiles())
        if (std::ranges::count(contentOf(state_->folder / known), *hash) > 0) return known;
    const std::string name = freeName(state_->folder, "impulses", safeStem(file.stem().string()));
    const auto copied = copyLosslessly(file, state_->folder / name);
    if (!copied) return copied.error();
    const auto impulse = readRecording(state_->folder / name);
    if (!impulse) return impulse.error();
    if (const auto told = describeImpulse(state_->folder / name, *impulse, {{"source_hash", *hash}}); !told)
        return told.error();
    return name;
}

Result<std::string> SessionFolder::addImpulse(const Recording& impulse, const std::string& stem,
                                              const std::string& madeOf)
{
    const std::string name = freeName(state_->folder, "impulses", safeStem(stem));
    std::error_code ignored;
    fs::create_directories(state_->folder / "impulses", ignored);
    if (const auto wrote = writeRecording(state_->folder / name, impulse); !wrote) return wrote.error();
    if (const auto told = describeImpulse(state_->folder / name, impulse, {{"made_of", madeOf}}); !told)
        return told.error();
    return name;
}

Result<fs::path> SessionFolder::restoreImpulse(const fs::path& session, const std::string& name, const fs::path& folder,
                                               const Progress& progress)
{
    constexpr std::size_t kMostFiles = 100000;
    if (!staysInside(name))
        return Error{ErrorCode::BadDocument, "impulse " + name + ": it lies outside the session's folder",
                     "mend the rig"};
    const auto wanted = contentOf(session / name);
    if (wanted.empty())
        return Error{ErrorCode::FileMissing, name + ": nothing is known of its content any more",
                     "bring it in again under another stage, or choose another"};
    const auto isAudio = [](const fs::path& path) {
        std::string kind = path.extension().string();
        std::ranges::transform(kind, kind.begin(), [](unsigned char c) { return std::tolower(c); });
        return kind == ".wav" || kind == ".flac" || kind == ".aif" || kind == ".aiff" || kind == ".w64";
    };
    std::size_t seen = 0;
    for (const fs::path& place : {session / "impulses", folder}) {
        std::error_code trouble;
        fs::recursive_directory_iterator at(place, fs::directory_options::skip_permission_denied, trouble), end;
        for (; !trouble && at != end && seen < kMostFiles; at.increment(trouble)) {
            if (progress.stopped()) return Error{ErrorCode::Cancelled, "looking for " + name + ": stopped", ""};
            std::error_code ignored;
            if (!at->is_regular_file(ignored) || !isAudio(at->path())) continue;
            ++seen;
            const auto hash = hashFile(at->path());
            if (!hash || std::ranges::count(wanted, *hash) == 0) continue;
            const auto copied = copyLosslessly(at->path(), session / name);
            if (!copied) return copied.error();
            return at->path();
        }
    }
    return Error{ErrorCode::FileMissing,
                 name + ": none of the " + std::to_string(seen) + " audio files in " + shownName(folder) +
                     " has its content",
                 "show another folder, or choose another impulse"};
}

Result<RigDocument> SessionFolder::loadRig(const std::string& file, Unknown unknown,
                                           std::vector<std::string>& warnings) const
{
    if (!staysInside(file))
        return Error{ErrorCode::BadDocument, "rig " + file + ": it lies outside the session's folder",
                     "mend the session"};
    return readRig(state_->folder / file, unknown, warnings);
}

Outcome SessionFolder::log(const LogEntry& entry)
{
    const Json line = {{"time", entry.time}, {"what", entry.what}, {"text", entry.text},
                       {"song", entry.song}, {"part", entry.part}, {"layer", entry.layer}};
    return appendLine(state_->folder / kLog, jsonText(line));
}

std::string LogEntry::where() const
{
    std::string out = song;
    for (const auto& step : {part, layer})
        if (!step.empty()) out += (out.empty() ? "" : " \u203a ") + step;
    return out;
}

LogPart SessionFolder::readLogFrom(std::int64_t byte) const
{
    LogPart out{{}, byte};
    std::ifstream file(state_->folder / kLog);
    file.seekg(byte);
    for (std::string line; std::getline(file, line) && !file.eof();) { // a line without its end is still being written
        out.end += std::int64_t(line.size()) + 1;
        const auto json = parseJson<Json>(line);
        if (!json.is_object()) continue;
        const auto text = [&](const char* key) {
            const auto at = json.find(key);
            return at != json.end() && at->is_string() ? at->get<std::string>() : std::string();
        };
        out.entries.push_back({text("time"), text("what"), text("text"), text("song"), text("part"), text("layer")});
    }
    return out;
}

std::vector<Missing> SessionFolder::check(bool deep, const Progress& progress) const
{
    std::vector<Missing> out;
    const auto layers = allLayers(state_->document);
    for (std::size_t i = 0; i < layers.size() && !progress.stopped(); ++i) {
        const Layer& layer = *findLayer(state_->document, layers[i]);
        for (const Take& take : layer.takes) {
            const fs::path file = state_->folder / take.file;
            if (!isThere(file)) {
                out.push_back({take.file, "the take is missing"});
            } else if (deep && !take.hash.empty()) {
                const auto hash = hashFile(file);
                if (!hash)
                    out.push_back({take.file, "the take cannot be read"});
                else if (*hash != take.hash)
                    out.push_back({take.file, "the take was changed since it was brought in"});
            }
        }
        progress.at(double(i + 1) / double(layers.size()));
    }
    for (const auto& name : allRigs(state_->document)) {
        std::vector<std::string> warnings;
        const auto rig = loadRig(name, Unknown::Bypass, warnings);
        if (!rig) {
            out.push_back(
                {name, rig.error().code == ErrorCode::FileMissing ? "the rig is missing" : rig.error().message});
            continue;
        }
        for (const auto& file : filesOf(rig->chain))
            if (!isThere(state_->folder / file)) out.push_back({file, "the impulse is missing (in " + name + ")"});
    }
    return out;
}

std::string localNow()
{
    const std::time_t now = std::time(nullptr);
    std::tm local{};
    localtime_r(&now, &local);
    char text[32];
    std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%S", &local);
    return text;
}

} // namespace gristle::core
