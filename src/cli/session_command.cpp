#include "cli/command.h"
#include "core/actions/import_files.h"
#include "core/audio/file_place.h"
#include "core/session/layer_role.h"
#include "core/session/recall_sheet.h"
#include "core/session/recorded_take.h"
#include "core/session/section_edit.h"
#include "core/units/number_text.h"
#include "core/units/text.h"

#include <fmt/format.h>
#include <iostream>
#include <map>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string dir, name;
    double tempo = 120.0;
    std::vector<std::string> files;
    std::string song, part, guitar, pickup;
    double place = 0.0;
    int channel = 0;
    std::string role = "di", source, at;
    bool isStereo = false, isMean = false;
    bool csv = false, takesShort = false, onlyLists = false;
};

std::string stemOf(const std::string& dir)
{
    auto path = std::filesystem::path(dir);
    if (!path.has_filename()) path = path.parent_path();
    return path.extension() == ".gristle" ? path.stem().string() : path.filename().string();
}

/// Opens for writing; what opening put right or aside is told on standard error.
Result<SessionFolder> openTold(const std::string& dir)
{
    auto session = SessionFolder::open(dir, Access::Write);
    if (session)
        for (const auto& warning : session->warnings()) std::cerr << "gristle-cli: " << warning << "\n";
    return session;
}

Result<Answer> create(const Options& o, const Surroundings&)
{
    SessionDocument d;
    d.name = validText(o.name.empty() ? stemOf(o.dir) : o.name);
    Song song;
    song.name = "Song 1";
    song.tempoBpm = o.tempo;
    d.songs.push_back(std::move(song));
    const auto session = SessionFolder::create(o.dir, d, localNow());
    if (!session) return session.error();
    Answer a;
    a.json = {{"dir", o.dir}, {"name", d.name}};
    a.text = o.dir + ": session \"" + d.name + "\" made\n";
    return a;
}

/// Two sides where that was asked for, or where the role allows it and no channel was named.
ImportSides sidesOf(const Options& o)
{
    if (o.isMean) return ImportSides::Mean;
    const bool isStereo = o.isStereo || (o.channel == 0 && mayBeStereo(*parseRole(o.role)));
    return isStereo ? ImportSides::Both : ImportSides::One;
}

/// A layer for each file: those of one name get numbers.
std::vector<FileToImport> filesOf(const Options& o, const std::string& song)
{
    std::vector<FileToImport> out;
    std::map<std::string, int> count;
    for (const auto& file : o.files) {
        const std::string stem = validText(std::filesystem::path(file).stem().string());
        const int nth = ++count[stem];
        FileToImport f{file,
                       {sidesOf(o), o.channel, o.takesShort ? ShortFile::TakeWhatIsThere : ShortFile::Refuse},
                       {song, o.part, nth == 1 ? stem : fmt::format("{} {}", stem, nth), o.guitar, o.pickup, o.place}};
        f.into.role = parseRole(o.role);
        f.into.source = o.source;
        if (o.at == "BWF" || o.at == "bwf")
            f.at = LandsAt::Stamp;
        else if (!o.at.empty())
            f.into.atS = *parseNumber(o.at);
        out.push_back(std::move(f));
    }
    return out;
}

Result<Answer> add(const Options& o, const Surroundings& s)
{
    auto session = openTold(o.dir);
    if (!session) return session.error();
    SessionDocument d = session->document();
    if (d.songs.empty()) d.songs.push_back({"Song 1", o.tempo, "4/4", "E standard", {}});
    const std::string song = o.song.empty() ? d.songs.front().name : o.song;
    if (std::ranges::find(d.songs, song, &Song::name) == d.songs.end())
        return Error{ErrorCode::Usage, "song \"" + o.song + "\": there is no such song", "see session info"};
    if (!o.at.empty() && o.at != "BWF" && o.at != "bwf" && !parseNumber(o.at))
        return Error{ErrorCode::Usage, "--at " + o.at + ": it is no number of seconds", "write seconds, or BWF"};
    auto files = filesOf(o, song);
    if (const auto may = checkImport(d, files); !may) return may.error();
    if (const auto landed = landFiles(d, files); !landed) return landed.error();
    auto staged = stageFiles(session->path(), d.interface, files, localNow(), s.progress());
    if (!staged && staged.error().code == ErrorCode::Truncated)
        return Error{ErrorCode::Truncated, staged.error().message,
                     "copy or export it again, or bring in what is there with --short"};
    if (!staged) return staged.error();
    const auto takes = placeTakes(session->path(), std::move(*staged));
    if (!takes) return takes.error();
    Answer a;
    a.json["take"] = Json::array();
    std::vector<LogEntry> entries;
    for (std::size_t i = 0; i < takes->size(); ++i) {
        const Take& take = (*takes)[i];
        const Layer& layer = *findLayer(d, addTake(d, files[i].into, take));
        a.json["take"].push_back({{"file", take.file}, {"frames", take.frames}, {"at_s", files[i].into.atS}});
        a.text += take.file + "\n";
        entries.push_back({take.recorded, "take",
                           fmt::format("Take {} brought in: {}", layer.takes.size(), take.source), song, o.part,
                           layer.name});
    }
    if (const auto saved = session->save(d); !saved) {
        if (saved.error().code == ErrorCode::NotConfirmed) return saved.error(); // the session names them
        for (const Take& take : *takes) discard(session->path() / take.file);
        return saved.error();
    }
    for (const auto& entry : entries)
        if (const auto logged = session->log(entry); !logged) return logged.error();
    return a;
}

Json orNull(const std::string& text) { return text.empty() ? Json(nullptr) : Json(text); }

Json sendsJson(const std::vector<Send>& sends)
{
    Json out = Json::array();
    for (const Send& s : sends) out.push_back({{"to", s.to}, {"gain_db", s.gainDb}});
    return out;
}

Json infoJson(const SessionDocument& d)
{
    Json out = {{"name", d.name}, {"sample_rate_hz", d.sampleRateHz}};
    out["song"] = Json::array();
    for (const Song& s : d.songs) {
        Json song = {{"name", s.name}, {"tempo_bpm", s.tempoBpm}, {"rig", orNull(s.rig)}, {"gain_db", s.gainDb}};
        song["section"] = Json::array();
        for (const SectionSpan& span : spansOf(s, endOf(s)))
            song["section"].push_back({{"name", span.name}, {"from_s", span.fromS}, {"to_s", span.toS}});
        song["bus"] = Json::array();
        for (const Bus& b : s.buses)
            song["bus"].push_back({{"name", b.name},
                                   {"rig", orNull(b.rig)},
                                   {"gain_db", b.gainDb},
                                   {"into", orNull(b.into)},
                                   {"send", sendsJson(b.sends)}});
        song["part"] = Json::array();
        for (const Part& p : s.parts) {
            Json part = {{"name", p.name}};
            part["layer"] = Json::array();
            for (const Layer& l : p.layers) {
                Json layer = {{"name", l.name},       {"role", nameOf(l.role)},    {"source", orNull(sourceOf(l))},
                              {"place", l.place},     {"gain_db", l.gainDb},       {"rig", orNull(l.rig)},
                              {"bus", orNull(l.bus)}, {"send", sendsJson(l.sends)}};
                layer["take"] = Json::array();
                for (const Take& t : l.takes)
                    layer["take"].push_back({{"file", t.file},
                                             {"role", nameOf(l.role)},
                                             {"frames", t.frames},
                                             {"channels", t.isStereo ? 2 : 1},
                                             {"at_s", t.atS},
                                             {"recorded", t.recorded}});
                part["layer"].push_back(std::move(layer));
            }
            song["part"].push_back(std::move(part));
        }
        out["song"].push_back(std::move(song));
    }
    return out;
}

Result<Answer> info(const Options& o, const Surroundings&)
{
    const auto session = SessionFolder::open(o.dir, Access::Read);
    if (!session) return session.error();
    const SessionDocument& d = session->document();
    Answer a;
    a.json = infoJson(d);
    a.text = fmt::format("{} ({} Hz)\n", d.name, d.sampleRateHz);
    for (const Song& s : d.songs) {
        a.text += fmt::format("  {}  {} BPM, {}, {}\n", s.name, s.tempoBpm, s.meter, s.tuning);
        for (const Part& p : s.parts)
            for (const Layer& l : p.layers)
                a.text += fmt::format("    {} > {}  {}, place {:.0f}, {} take(s), {}{}\n", p.name, l.name,
                                      nameOf(l.role), l.place, l.takes.size(), l.rig.empty() ? "dry" : l.rig,
                                      l.bus.empty() ? "" : ", into " + l.bus);
        for (const Bus& b : s.buses)
            a.text += fmt::format("    bus {}  {:+.1f} dB, {}, into {}\n", b.name, b.gainDb,
                                  b.rig.empty() ? "no rig" : b.rig, b.into.empty() ? "the song" : b.into);
    }
    return a;
}

Json toJson(const LeftOver& left)
{
    return {{"file", left.file}, {"why", left.why}, {"bytes", left.bytes}, {"safe", left.isSafe}};
}

std::string lineOf(const LeftOver& left)
{
    return fmt::format("{}: {}, {:.1f} MB{}\n", left.file, left.why, double(left.bytes) / 1e6,
                       left.isSafe ? "; nothing is lost with it" : "");
}

Result<Answer> check(const Options& o, const Surroundings& s)
{
    const auto session = SessionFolder::open(o.dir, Access::Read);
    if (!session) return session.error();
    const auto missing = session->check(true, s.progress());
    const auto left = session->leftOvers(s.progress());
    Answer a;
    a.json["missing"] = Json::array();
    for (const Missing& m : missing) {
        a.json["missing"].push_back({{"file", m.file}, {"why", m.why}});
        a.text += m.file + ": " + m.why + "\n";
    }
    a.json["left_over"] = Json::array();
    for (const LeftOver& l : left) {
        a.json["left_over"].push_back(toJson(l));
        a.text += lineOf(l);
    }
    a.json["warning"] = session->warnings();
    for (const auto& warning : session->warnings()) a.text += warning + "\n";
    if (missing.empty()) {
        a.text += "all there, unchanged\n";
        return a;
    }
    a.exitCode = 3;
    a.complaint = fmt::format("{}: {} {} missing or changed; put {} back, then check again", o.dir, missing.size(),
                              missing.size() == 1 ? "file is" : "files are", missing.size() == 1 ? "it" : "them");
    return a;
}

/// Removes what `check` lists as left over: what is safe, or what is named.
Result<Answer> clean(const Options& o, const Surroundings& s)
{
    auto session = openTold(o.dir);
    if (!session) return session.error();
    const auto left = session->leftOvers(s.progress());
    for (const auto& name : o.files)
        if (std::ranges::find(left, name, &LeftOver::file) == left.end())
            return Error{ErrorCode::Usage, name + ": it is not left over in this session",
                         "see session check for what is, and name it as it stands there"};
    Answer a;
    a.json["removed"] = Json::array();
    a.json["kept"] = Json::array();
    for (const LeftOver& l : left) {
        const bool goes = o.files.empty() ? l.isSafe : std::ranges::find(o.files, l.file) != o.files.end();
        if (goes && !o.onlyLists)
            if (const auto removed = session->removeLeftOver(l); !removed) return removed.error();
        a.json[goes ? "removed" : "kept"].push_back(toJson(l));
        a.text += (goes ? o.onlyLists ? "would go: " : "removed: " : "kept: ") + lineOf(l);
    }
    if (left.empty()) a.text = "nothing is left over\n";
    return a;
}

/// Makes takes of recordings that a program did not live to finish. One that cannot be read does not hold up the rest.
Result<Answer> recoverAll(const Options& o, BrokenHeader ifBroken)
{
    auto session = openTold(o.dir);
    if (!session) return session.error();
    Answer a;
    a.json["take"] = Json::array();
    a.json["unread"] = Json::array();
    std::optional<Error> first;
    for (const auto& recording : unfinishedRecordings(session->path())) {
        const auto takes = keepRecording(*session, recording, {}, localNow(),
                                         "Take recovered: its recording was not finished", ifBroken);
        if (!takes) {
            a.json["unread"].push_back({{"file", "audio/" + shownName(recording)}, {"why", takes.error().message}});
            a.text += takes.error().line() + "\n";
            if (!first) first = takes.error();
            continue;
        }
        for (const RecordedTake& t : *takes) {
            a.json["take"].push_back(
                {{"file", t.take.file}, {"frames", t.take.frames}, {"part", t.target.part}, {"layer", t.target.layer}});
            a.text += fmt::format("{}: {:.1f} s recovered\n", t.take.file, double(t.take.frames) / t.take.sampleRateHz);
        }
    }
    if (first) {
        a.exitCode = first->code == ErrorCode::WriteFailed ? 4 : 3;
        a.complaint = first->line();
    }
    if (a.text.empty()) a.text = "nothing to recover\n";
    return a;
}

Result<Answer> recover(const Options& o, const Surroundings&) { return recoverAll(o, BrokenHeader::Tell); }
Result<Answer> salvage(const Options& o, const Surroundings&) { return recoverAll(o, BrokenHeader::Salvage); }

Result<Answer> log(const Options& o, const Surroundings&)
{
    const auto session = SessionFolder::open(o.dir, Access::Read);
    if (!session) return session.error();
    const auto entries = session->readLog();
    Answer a;
    a.json["entry"] = Json::array();
    for (const LogEntry& e : entries) {
        a.json["entry"].push_back({{"time", e.time},
                                   {"what", e.what},
                                   {"text", e.text},
                                   {"song", e.song},
                                   {"part", e.part},
                                   {"layer", e.layer}});
        a.text += e.time + "  " + e.text + "\n";
    }
    if (o.csv) a.text = logCsv(entries);
    return a;
}

} // namespace

void addSession(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* session = app.add_subcommand("session", "Makes, fills, shows and checks a session");
    session->require_subcommand(1);
    session->fallthrough();
    const auto verb = [&](const char* name, const char* about,
                          Result<Answer> (*work)(const Options&, const Surroundings&)) {
        CLI::App* command = session->add_subcommand(name, about);
        command->add_option("DIR", o->dir, "The session's folder")->required();
        command->callback([o, &job, work] {
            for (std::string* text : {&o->song, &o->part, &o->guitar, &o->pickup}) *text = validText(*text);
            job = [o, work](const Surroundings& s) { return work(*o, s); };
        });
        return command;
    };
    CLI::App* made = verb("new", "Makes a session", create);
    made->add_option("--name", o->name, "Its name; the folder's");
    made->add_option("--tempo", o->tempo, "Quarter notes a minute")
        ->check(CLI::Range(20.0, 400.0))
        ->capture_default_str();
    CLI::App* added = verb("add", "Brings takes in, a layer each", add);
    added->add_option("FILE", o->files, "Audio files")->required();
    added->add_option("--part", o->part, "The part that they belong to")->required();
    added->add_option("--song", o->song, "The song; the first");
    added->add_option("--place", o->place, "-100 left to 100 right")->check(CLI::Range(-100.0, 100.0));
    added->add_option("--guitar", o->guitar, "Which guitar");
    added->add_option("--pickup", o->pickup, "Which pickup");
    added->add_option("--role", o->role, "What the files are")
        ->check(CLI::IsMember({"di", "mic", "backing", "reference"}))
        ->capture_default_str();
    added->add_option("--source", o->source, "What is heard: guitar, bass, acoustic, keys; drums, voice, mix");
    added->add_option("--at", o->at, "Where they begin: seconds of the song, or BWF: by their time stamp or name");
    CLI::Option* channel =
        added->add_option("--channel", o->channel, "Which channel, from 1")->check(CLI::Range(1, 64));
    CLI::Option* stereo = added->add_flag("--stereo", o->isStereo, "Both channels, as two sides; usual but for a DI");
    added->add_flag("--mean", o->isMean, "The mean of all channels")->excludes(channel)->excludes(stereo);
    stereo->excludes(channel);
    verb("info", "Shows songs, parts, layers and takes", info);
    added->add_flag("--short", o->takesShort,
                    "Bring in what is there of files that are shorter than their header says");
    verb("check", "Lists what is missing or changed, and what is left over", check);
    CLI::App* cleaned = verb("clean", "Removes what is left over: what is safe, or the files that are named", clean);
    cleaned->add_option("FILE", o->files, "As session check lists them");
    cleaned->add_flag("--list", o->onlyLists, "Only say what would go");
    verb("recover", "Makes takes of recordings that were not finished", recover);
    verb("salvage", "The same, also of recordings with a broken header, as their notes say that the samples lie",
         salvage);
    verb("log", "Shows the log", log)->add_flag("--csv", o->csv, "As CSV");
    addSessionSteps(*session, job);
    addSessionBuses(*session, job);
}

} // namespace gristle::cli
