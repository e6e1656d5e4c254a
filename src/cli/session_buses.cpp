#include "cli/command.h"
#include "core/session/bus_edit.h"
#include "core/session/section_edit.h"
#include "core/session/session_folder.h"
#include "core/session/song_edit.h"
#include "core/units/text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string dir, name, to, song, by = "amplifier";
    std::optional<std::string> into, rig;
    std::optional<double> gainDb, bar;
    std::vector<std::string> sends;
};

using Change = std::function<Outcome(const Options&, Song&)>;

/// Changes the song that is meant, saves and notes it. @param done  "Bus added: wide"
Result<Answer> change(const Options& o, const std::string& done, const Change& work)
{
    auto session = SessionFolder::open(o.dir, Access::Write);
    if (!session) return session.error();
    SessionDocument d = session->document();
    const auto at = findStep(d, Step::Song, o.song.empty() && !d.songs.empty() ? d.songs.front().name : o.song, {}, {});
    if (!at) return at.error();
    Song& song = d.songs[at->song];
    if (const auto changed = work(o, song); !changed) return changed.error();
    if (const auto saved = session->save(d); !saved) return saved.error();
    if (const auto logged = session->log({localNow(), "bus", done, song.name, {}, {}}); !logged) return logged.error();
    Answer a;
    a.json = {{"song", song.name}, {"name", o.name}};
    a.text = done + "\n";
    return a;
}

Outcome setBus(const Options& o, Song& song)
{
    const auto sends = parseSends(song, o.sends);
    if (!sends) return sends.error();
    if (o.rig && !o.rig->empty() && !staysInside(*o.rig))
        return Error{ErrorCode::Usage, *o.rig + ": it leaves the session's folder", "name one in rigs/"};
    return changeBus(song, o.name, [&](Bus& bus) {
        if (o.into) bus.into = *o.into;
        if (o.rig) bus.rig = *o.rig;
        if (o.gainDb) bus.gainDb = *o.gainDb;
        if (!sends->empty()) bus.sends = *sends;
    });
}

} // namespace

void addSessionBuses(CLI::App& session, Job& job)
{
    auto o = std::make_shared<Options>();
    const auto verb = [&](CLI::App& group, const char* name, const char* about, const char* done, const Change& work) {
        CLI::App* command = group.add_subcommand(name, about);
        command->add_option("DIR", o->dir, "The session's folder")->required();
        command->add_option("--song", o->song, "The song; the first");
        command->callback([o, &job, done, work] {
            for (std::string* text : {&o->name, &o->to, &o->song}) *text = validText(*text);
            job = [=](const Surroundings&) {
                return change(*o, fmt::format(fmt::runtime(done), fmt::arg("name", o->name), fmt::arg("to", o->to)),
                              work);
            };
        });
        return command;
    };
    const auto named = [&](CLI::App* command, const char* about) {
        command->add_option("NAME", o->name, about)->required();
        return command;
    };

    CLI::App* bus = session.add_subcommand("bus", "Makes, leads, renames and removes the buses of a song");
    bus->require_subcommand(1);
    named(verb(*bus, "add", "Makes a bus, which leads into the song", "Bus added: {name}",
               [](const Options& c, Song& song) { return addBus(song, c.name); }),
          "The bus");
    named(verb(*bus, "rename", "Gives a bus another name", "Bus renamed: {to}, before: {name}",
               [](const Options& c, Song& song) { return renameBus(song, c.name, c.to); }),
          "The bus")
        ->add_option("--to", o->to, "The new name")
        ->required();
    named(verb(*bus, "remove", "Removes a bus; what leads into it leads where it led", "Bus removed: {name}",
               [](const Options& c, Song& song) { return removeBus(song, c.name); }),
          "The bus");
    CLI::App* set =
        named(verb(*bus, "set", "Leads a bus, and sets its rig, gain and sends", "Bus set: {name}", setBus), "The bus");
    set->add_option("--into", o->into, "The bus that it goes into; \"\": the song");
    set->add_option("--rig", o->rig, "A rig of the session, rigs/NAME.json; \"\": none");
    set->add_option("--gain", o->gainDb, "dB, behind its rig")->check(CLI::Range(-60.0, 60.0));
    set->add_option("--send", o->sends, "BUS or BUS:gain_db, behind rig and gain; all that it sends");
    verb(*bus, "gather", "Leads all guitar layers of a song into buses", "Layers gathered in buses",
         [](const Options& c, Song& song) -> Outcome {
             makeBuses(song, *parseBusesBy(c.by));
             return Done{};
         })
        ->add_option("--by", o->by, "What shares a bus")
        ->check(CLI::IsMember({"part", "side", "amplifier"}))
        ->capture_default_str();

    CLI::App* section = session.add_subcommand("section", "Names stretches of a song");
    section->require_subcommand(1);
    named(verb(*section, "add", "Begins a section, which ends where the next one begins", "Section added: {name}",
               [](const Options& c, Song& song) { return addSection(song, c.name, *c.bar); }),
          "The section")
        ->add_option("--bar", o->bar, "Where it begins, from 1")
        ->required();
    named(verb(*section, "remove", "Removes a section; the one before goes on", "Section removed: {name}",
               [](const Options& c, Song& song) { return removeSection(song, c.name, c.bar); }),
          "The section")
        ->add_option("--bar", o->bar, "Where it begins, where there are several of its name");
}

} // namespace gristle::cli
