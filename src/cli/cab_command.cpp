#include "cli/report.h"
#include "core/actions/place_microphones.h"
#include "core/audio/audio_writer.h"
#include "core/audio/file_place.h"
#include "core/units/number_text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string out, cabinet = "one-closed";
    std::vector<std::string> microphones;
    Room room;
    int rateHz = 48000;
    double seconds = 0.25, watts = 5.0;
    double apartM = 0.0; ///< to a second amplifier; 0: none
    bool areApart = false, matched = false, dry = false;
};

/// KIND[:distance_cm[:offset_cm[:angle[:gain_db[:invert]]]]]
Result<PlacedMicrophone> parse(const std::string& text)
{
    std::vector<std::string> words;
    for (std::size_t at = 0; at <= text.size();) {
        const std::size_t end = std::min(text.find(':', at), text.size());
        words.push_back(text.substr(at, end - at));
        at = end + 1;
    }
    const auto bad = [&](const std::string& what) {
        return Error{ErrorCode::Usage, "cab: '" + text + "': " + what,
                     "write KIND[:distance_cm[:offset_cm[:angle[:gain_db[:invert]]]]], as ribbon:30:0:0:-3"};
    };
    PlacedMicrophone out;
    out.kind = words[0];
    if (words.size() > 6) return bad("too much");
    if (words.size() == 6) {
        if (words[5] != "invert") return bad("'" + words[5] + "' is not 'invert'");
        out.invert = true;
        words.pop_back();
    }
    double values[] = {3.0, 0.0, 0.0, 0.0};
    for (std::size_t i = 1; i < words.size(); ++i) {
        const auto value = parseNumber(words[i]);
        if (!value) return bad("'" + words[i] + "' is no number");
        values[i - 1] = *value;
    }
    out.place = {0.01 * values[0], 0.01 * values[1], values[2]};
    out.gainDb = values[3];
    if (const auto good = checkPlaced(out); !good) return good.error();
    return out;
}

Result<Answer> answer(const Options& o, const Progress& progress)
{
    if (const auto may = checkOutput(o.out); !may) return may.error();
    CabPlan plan{o.cabinet, o.room, {}, o.watts, o.apartM};
    if (o.dry) plan.room = {.floorM = 0.0, .wallM = 0.0, .reverberationS = 0.0};
    for (const std::string& text : o.microphones) {
        const auto m = parse(text);
        if (!m) return m.error();
        plan.microphones.push_back(*m);
    }
    if (plan.microphones.empty()) plan.microphones.push_back({});
    const auto placed = placeMicrophones(plan);
    if (!placed) return placed.error();
    const auto impulse = impulseOfPlaced(
        plan, {o.areApart ? PlanChannels::Each : PlanChannels::Sum, o.rateHz, o.seconds, o.matched}, progress);
    if (!impulse) return impulse.error();
    if (const auto written = writeRecording(o.out, *impulse, SampleFormat::Float32); !written) return written.error();
    Answer a;
    Json rows = Json::array();
    for (std::size_t i = 0; i < plan.microphones.size(); ++i) {
        const PlacedMicrophone& m = plan.microphones[i];
        const PlacedFigures& f = placed->figures.microphones[i];
        Json row = {{"kind", m.kind},
                    {"distance_cm", 100.0 * m.place.distanceM},
                    {"offset_cm", 100.0 * m.place.offsetM},
                    {"angle", m.place.angleDeg},
                    {"gain_db", m.gainDb},
                    {"inverted", m.invert},
                    {"travel_ms", 1000.0 * f.travelS},
                    {"spl_db", f.soundPressureDb},
                    {"most_spl_db", f.mostSplDb}};
        a.text += fmt::format("{}: {} cm, {} ms on its way, {} dB SPL at {:g} W (it takes {} dB)", m.kind,
                              figureText(100.0 * m.place.distanceM, 1), figureText(1000.0 * f.travelS, 2),
                              figureText(f.soundPressureDb, 0), o.watts, figureText(f.mostSplDb, 0));
        if (f.spill) {
            row["spill"] = {{"apart_m", o.apartM},
                            {"ratio", f.spill->ratio},
                            {"spill_db", f.spill->spillDb},
                            {"at_three_to_one_db", f.spill->ruleDb},
                            {"ripple_db", f.spill->rippleDb},
                            {"needed_m", f.spill->neededM}};
            a.text += fmt::format("; of an amplifier {} m away it hears {} dB, a ripple of {} dB",
                                  figureText(o.apartM, 2), figureText(f.spill->spillDb), figureText(f.spill->rippleDb));
        }
        a.text += "\n";
        rows.push_back(std::move(row));
    }
    a.json = {{"out", o.out},
              {"cabinet", o.cabinet},
              {"rate_hz", o.rateHz},
              {"channels", impulse->audio.channels()},
              {"length_samples", impulse->audio.frames()},
              {"microphone", rows},
              {"findings", toJson(placed->findings)}};
    a.text = fmt::format("{}: a {} cabinet by a model, an estimate (docs/loudspeaker.md)\n", o.out, o.cabinet) +
             a.text + findingLines(placed->findings);
    return a;
}

} // namespace

void addCab(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    auto* cab = app.add_subcommand("cab", "Renders an impulse from a cabinet and placed microphones, by a model")
                    ->alias("place");
    cab->add_option("OUT", o->out, "WAV to write")->required();
    cab->add_option("--cabinet", o->cabinet, "one-open, one-closed, small-open, two-open, two-closed, four-closed");
    cab->add_option("--mic", o->microphones, "KIND[:distance_cm[:offset_cm[:angle[:gain_db[:invert]]]]]; several");
    cab->add_flag("--apart", o->areApart, "Each microphone in a channel of its own; else their sum");
    cab->add_flag("--match", o->matched, "As loud as without it");
    cab->add_flag("--dry", o->dry, "No floor, wall and reverberation");
    cab->add_option("--floor-m", o->room.floorM, "From the driver's axis down to the floor; 0: none");
    cab->add_option("--wall-m", o->room.wallM, "From the cabinet's back to the wall; 0: none");
    cab->add_option("--volume-m3", o->room.volumeM3, "Of the room")->check(CLI::Range(5.0, 5000.0));
    cab->add_option("--reverberation-s", o->room.reverberationS, "Of the room; 0: none")->check(CLI::Range(0.0, 10.0));
    cab->add_option("--rate", o->rateHz, "Hz");
    cab->add_option("--seconds", o->seconds, "Its length");
    cab->add_option("--watts", o->watts, "What the amplifier gives, for the sound pressure")
        ->check(CLI::Range(0.001, 1000.0));
    cab->add_option("--spill-m", o->apartM, "To a second amplifier beside it: what each microphone hears of that one")
        ->check(CLI::Range(0.05, 20.0));
    cab->callback([o, &job] { job = [o](const Surroundings& s) { return answer(*o, s.progress()); }; });
}

} // namespace gristle::cli
