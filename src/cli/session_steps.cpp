#include "cli/command.h"
#include "core/session/bus_edit.h"
#include "core/session/layer_role.h"
#include "core/session/session_folder.h"
#include "core/session/song_edit.h"
#include "core/units/text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string dir, name, to, song, part;
    int place = 1;
    std::optional<double> at;
    std::optional<double> tempo, gainDb;
    std::optional<std::string> role, source, bus;
    std::vector<std::string> sends;
};

const std::vector<std::string> kRoles{"di", "mic", "backing", "reference"};

/// @error as setRole, leadLayer and parseSend
Result<LayerPath> setLayer(const Options& o, SessionDocument& d, const LayerPath& at)
{
    Song& song = d.songs[at.song];
    Layer& layer = *findLayer(d, at);
    if (o.role || o.source)
        if (const auto set = setRole(layer, o.role ? *parseRole(*o.role) : layer.role, o.source.value_or("")); !set)
            return set.error();
    if (o.bus)
        if (const auto led = leadLayer(song, layer, *o.bus); !led) return led.error();
    if (!o.sends.empty()) {
        auto sends = parseSends(song, o.sends);
        if (!sends) return sends.error();
        layer.sends = std::move(*sends);
    }
    if (o.at) layer.place = *o.at;
    if (o.gainDb) layer.gainDb = *o.gainDb;
    return at;
}

using Change = std::function<Result<LayerPath>(SessionDocument&, const LayerPath&)>;

/// Opens, changes, saves and notes it; the answer is where it is now, from 1.
Result<Answer> change(const Options& o, Step step, const std::string& done, const Result<LayerPath>& at,
                      SessionFolder& session, const Change& work)
{
    if (!at) return at.error();
    SessionDocument d = session.document();
    const std::string before = done == "added" ? o.name : nameOf(d, step, *at);
    auto path = work(d, *at);
    if (!path) return path.error();
    if (const auto saved = session.save(d); !saved) return saved.error();
    const bool isGone = done == "removed";
    const std::string name = isGone ? before : nameOf(d, step, *path);
    const std::string text = fmt::format("{} {}: {}{}",
                                         step == Step::Song   ? "Song"
                                         : step == Step::Part ? "Part"
                                                              : "Layer",
                                         done, name, name == before ? "" : ", before: " + before);
    LogEntry entry{localNow(), "song", text, {}, {}, {}};
    if (path->song < d.songs.size()) entry.song = d.songs[path->song].name;
    if (const auto logged = session.log(entry); !logged) return logged.error();
    Answer a;
    a.json = {{"name", name}};
    if (!isGone)
        a.json["place"] = 1 + (step == Step::Song ? path->song : step == Step::Part ? path->part : path->layer);
    a.text = text + "\n";
    return a;
}

} // namespace

void addSessionSteps(CLI::App& session, Job& job)
{
    auto o = std::make_shared<Options>();
    for (const Step step : {Step::Song, Step::Part, Step::Layer}) {
        const std::string word = stepWord(step);
        CLI::App* group =
            session.add_subcommand(word, fmt::format("Makes, renames, moves, copies and removes a {}", word));
        group->require_subcommand(1);
        const auto verb = [&](const char* name, const std::string& about, const char* done, const Change& work) {
            CLI::App* command = group->add_subcommand(name, about);
            command->add_option("DIR", o->dir, "The session's folder")->required();
            command->add_option("NAME", o->name, fmt::format("The {}", word))->required();
            if (step != Step::Song) command->add_option("--song", o->song, "The song that it is in; the first");
            if (step == Step::Layer) command->add_option("--part", o->part, "The part that it is in")->required();
            const bool isNew = std::string(done) == "added";
            command->callback([o, &job, step, done, work, isNew] {
                for (std::string* text : {&o->name, &o->to, &o->song, &o->part}) *text = validText(*text);
                job = [=](const Surroundings&) -> Result<Answer> {
                    auto opened = SessionFolder::open(o->dir, Access::Write);
                    if (!opened) return opened.error();
                    const SessionDocument& d = opened->document();
                    // Something new goes behind the last of what it is put into.
                    constexpr auto kLast = std::size_t(-1);
                    Result<LayerPath> at = LayerPath{kLast, 0, 0};
                    if (!isNew)
                        at = findStep(d, step, step == Step::Song ? o->name : o->song,
                                      step == Step::Part ? o->name : o->part, o->name);
                    else if (step == Step::Layer)
                        at = findStep(d, Step::Part, o->song, o->part, {});
                    else if (step == Step::Part)
                        at = d.songs.empty()
                                 ? Result<LayerPath>(LayerPath{})
                                 : findStep(d, Step::Song, o->song.empty() ? d.songs[0].name : o->song, {}, {});
                    if (at && isNew)
                        (step == Step::Layer ? at->layer : step == Step::Part ? at->part : at->song) = kLast;
                    return change(*o, step, done, at, *opened, work);
                };
            });
            return command;
        };
        CLI::App* added = verb("add", fmt::format("Makes a {}, behind the last", word), "added",
                               [o, step](SessionDocument& d, const LayerPath& at) -> Result<LayerPath> {
                                   const auto path = addStep(d, step, at, o->name);
                                   if (!path) return path;
                                   if (o->tempo) d.songs[path->song].tempoBpm = *o->tempo;
                                   if (o->at) findLayer(d, *path)->place = *o->at;
                                   return path;
                               });
        if (step == Step::Song)
            added->add_option("--tempo", o->tempo, "Quarter notes a minute; as the last song has")
                ->check(CLI::Range(20.0, 400.0));
        if (step == Step::Layer)
            added->add_option("--place", o->at, "-100 left to 100 right; opposite of its neighbour")
                ->check(CLI::Range(-100.0, 100.0));
        if (step == Step::Layer) {
            CLI::App* set = verb("set", "Says what a layer is and where it goes", "set",
                                 [o](SessionDocument& d, const LayerPath& at) { return setLayer(*o, d, at); });
            set->add_option("--role", o->role, "What its takes are")->check(CLI::IsMember(kRoles));
            set->add_option("--source", o->source, "What is heard: guitar, bass, acoustic, keys; drums, voice, mix");
            set->add_option("--bus", o->bus, "The bus that it goes into; \"\": straight into the song");
            set->add_option("--send", o->sends, "BUS or BUS:gain_db; all that it sends");
            set->add_option("--place", o->at, "-100 left to 100 right")->check(CLI::Range(-100.0, 100.0));
            set->add_option("--gain", o->gainDb, "dB")->check(CLI::Range(-60.0, 60.0));
        }
        verb("rename", fmt::format("Gives a {} another name", word), "renamed",
             [o, step](SessionDocument& d, const LayerPath& at) { return renameStep(d, step, at, o->to); })
            ->add_option("--to", o->to, "The new name")
            ->required();
        verb("move", fmt::format("Puts a {} at another place in the order", word), "moved",
             [o, step](SessionDocument& d, const LayerPath& at) {
                 return moveStep(d, step, at, std::size_t(o->place - 1));
             })
            ->add_option("--to", o->place, "From 1")
            ->required()
            ->check(CLI::Range(1, 100000));
        verb("copy", fmt::format("Copies a {} with all that is in it", word), "copied",
             [step](SessionDocument& d, const LayerPath& at) { return copyStep(d, step, at); });
        verb("remove", fmt::format("Removes a {}; its files stay", word), "removed",
             [step](SessionDocument& d, const LayerPath& at) { return removeStep(d, step, at); });
    }
}

} // namespace gristle::cli
