#include "cli/command.h"
#include "core/session/recall_sheet.h"
#include "core/session/recorded_take.h"
#include "core/session/take_import.h"

#include <fmt/format.h>

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
    bool csv = false;
};

std::string stemOf(const std::string& dir)
{
    auto path = std::filesystem::path(dir);
    if (!path.has_filename()) path = path.parent_path();
    return path.extension() == ".gristle" ? path.stem().string() : path.filename().string();
}

Result<Answer> create(const Options& o, const Surroundings&)
{
    SessionDocument d;
    d.name = o.name.empty() ? stemOf(o.dir) : o.name;
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

/// The part of that name in the song asked for (else the first song), made where it is not there.
Result<Part*> partOf(SessionDocument& d, const Options& o)
{
    if (d.songs.empty()) d.songs.push_back({"Song 1", o.tempo, "4/4", "E standard", {}});
    Song* song = o.song.empty() ? &d.songs.front() : nullptr;
    for (Song& s : d.songs)
        if (s.name == o.song) song = &s;
    if (!song) return Error{ErrorCode::Usage, "song \"" + o.song + "\": there is no such song", "see session info"};
    for (Part& p : song->parts)
        if (p.name == o.part) return &p;
    return &song->parts.emplace_back(Part{o.part, {}});
}

Result<Answer> add(const Options& o, const Surroundings& s)
{
    auto session = SessionFolder::open(o.dir, Access::Write);
    if (!session) return session.error();
    SessionDocument d = session->document();
    const auto part = partOf(d, o);
    if (!part) return part.error();
    Answer a;
    a.json["take"] = Json::array();
    std::vector<LogEntry> entries;
    std::vector<std::filesystem::path> copied;
    const auto undoCopies = [&] { // nothing half-done stays: a bad file leaves the session as it was
        std::error_code ignored;
        for (const auto& file : copied) std::filesystem::remove(file, ignored);
    };
    for (const auto& file : o.files) {
        if (s.stop.stop_requested()) return undoCopies(), Error{ErrorCode::Cancelled, "session add: stopped", ""};
        auto take = importTake(session->path(), d.interface, file, o.channel, localNow());
        if (!take) return undoCopies(), take.error();
        copied.push_back(session->path() / take->file);
        if (d.sampleRateHz == 0) d.sampleRateHz = take->sampleRateHz;
        Layer layer;
        layer.name = std::filesystem::path(file).stem().string();
        layer.place = o.place;
        layer.guitar = o.guitar;
        layer.pickup = o.pickup;
        a.json["take"].push_back({{"file", take->file}, {"frames", take->frames}});
        a.text += take->file + "\n";
        entries.push_back({take->recorded, "take", "Take 1 brought in: " + take->source, "", o.part, layer.name});
        layer.takes.push_back(std::move(*take));
        (*part)->layers.push_back(std::move(layer));
    }
    if (const auto saved = session->save(d); !saved) return undoCopies(), saved.error();
    for (const auto& entry : entries)
        if (const auto logged = session->log(entry); !logged) return logged.error();
    return a;
}

Json infoJson(const SessionDocument& d)
{
    Json out = {{"name", d.name}, {"sample_rate_hz", d.sampleRateHz}};
    out["song"] = Json::array();
    for (const Song& s : d.songs) {
        Json song = {{"name", s.name}, {"tempo_bpm", s.tempoBpm}};
        song["part"] = Json::array();
        for (const Part& p : s.parts) {
            Json part = {{"name", p.name}};
            part["layer"] = Json::array();
            for (const Layer& l : p.layers) {
                Json layer = {
                    {"name", l.name}, {"place", l.place}, {"rig", l.rig.empty() ? Json(nullptr) : Json(l.rig)}};
                layer["take"] = Json::array();
                for (const Take& t : l.takes)
                    layer["take"].push_back({{"file", t.file}, {"frames", t.frames}, {"recorded", t.recorded}});
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
                a.text += fmt::format("    {} > {}  place {:.0f}, {} take(s), {}\n", p.name, l.name, l.place,
                                      l.takes.size(), l.rig.empty() ? "dry" : l.rig);
    }
    return a;
}

Result<Answer> check(const Options& o, const Surroundings& s)
{
    const auto session = SessionFolder::open(o.dir, Access::Read);
    if (!session) return session.error();
    const auto missing = session->check(true, s.progress());
    Answer a;
    a.json["missing"] = Json::array();
    for (const Missing& m : missing) {
        a.json["missing"].push_back({{"file", m.file}, {"why", m.why}});
        a.text += m.file + ": " + m.why + "\n";
    }
    if (missing.empty()) {
        a.text = "all there, unchanged\n";
        return a;
    }
    a.exitCode = 3;
    a.complaint = fmt::format("{}: {} {} missing or changed; put {} back, then check again", o.dir, missing.size(),
                              missing.size() == 1 ? "file is" : "files are", missing.size() == 1 ? "it" : "them");
    return a;
}

/// Makes takes of recordings that a program did not live to finish.
Result<Answer> recover(const Options& o, const Surroundings&)
{
    auto session = SessionFolder::open(o.dir, Access::Write);
    if (!session) return session.error();
    Answer a;
    a.json["take"] = Json::array();
    for (const auto& recording : unfinishedRecordings(session->path())) {
        const auto takes =
            keepRecording(*session, recording, {}, localNow(), "Take recovered: its recording was not finished");
        if (!takes) return takes.error();
        for (const RecordedTake& t : *takes) {
            a.json["take"].push_back(
                {{"file", t.take.file}, {"frames", t.take.frames}, {"part", t.target.part}, {"layer", t.target.layer}});
            a.text += fmt::format("{}: {:.1f} s recovered\n", t.take.file, double(t.take.frames) / t.take.sampleRateHz);
        }
    }
    if (a.text.empty()) a.text = "nothing to recover\n";
    return a;
}

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
        command->callback([o, &job, work] { job = [o, work](const Surroundings& s) { return work(*o, s); }; });
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
    added->add_option("--channel", o->channel, "Which channel, from 1")->check(CLI::Range(1, 64));
    verb("info", "Shows songs, parts, layers and takes", info);
    verb("check", "Lists what is missing or changed", check);
    verb("recover", "Makes takes of recordings that were not finished", recover);
    verb("log", "Shows the log", log)->add_flag("--csv", o->csv, "As CSV");
}

} // namespace gristle::cli
