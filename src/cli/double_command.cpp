#include "cli/report.h"
#include "core/advice/double_findings.h"
#include "core/audio/audio_reader.h"
#include "core/audio/resampler.h"
#include "core/timing/by_di.h"
#include "core/units/number_text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string first, second, firstDi, secondDi;
    double tempoBpm = 0.0, quarters = 4.0;
    int channel = 0;
};

Result<std::vector<float>> mono(const std::string& file, int channel, int& rateHz)
{
    const auto chosen = chooseChannel(file, channel);
    if (!chosen) return chosen.error();
    auto read = readRecording(file);
    if (!read) return read.error();
    if (rateHz == 0) rateHz = read->sampleRateHz;
    if (read->sampleRateHz != rateHz) *read = resampled(*read, rateHz);
    const auto x = std::as_const(read->audio).channel(*chosen);
    return std::vector<float>(x.begin(), x.end());
}

/// What a side is judged by: its DI where one is named.
Result<std::vector<float>> judgedBy(const std::string& file, const std::string& di, int channel, int& rateHz)
{
    auto heard = mono(file, channel, rateHz);
    if (!heard || di.empty()) return heard;
    const auto dry = mono(di, 0, rateHz);
    return dry ? diInPlaceOf(*heard, *dry, rateHz) : dry;
}

Result<Answer> answer(const Options& o, const Progress& progress)
{
    int rate = 0;
    const auto first = judgedBy(o.first, o.firstDi, o.channel, rate);
    if (!first) return first.error();
    const auto second = judgedBy(o.second, o.secondDi, o.channel, rate);
    if (!second) return second.error();
    const auto take = comparePerformances(*first, *second, rate, progress);
    if (!take) return take.error();
    std::optional<BarPlace> place;
    if (o.tempoBpm > 0.0 && !take->notes.empty()) // bars count from the first note on
        place = {BarGrid(o.tempoBpm, fmt::format("{}/4", o.quarters)), take->notes.front().timeS - 0.02};
    const auto findings = doubleFindings(*take, place, o.second);
    Json notes = Json::array();
    for (const NotePair& n : take->notes)
        notes.push_back({{"time_s", n.timeS},
                         {"offset_ms", n.offsetMs},
                         {"offset_doubt_ms", n.offsetDoubtMs},
                         {"cents", orNull(n.cents)},
                         {"cents_doubt", n.cents ? Json(n.centsDoubt) : Json()},
                         {"level_db", n.levelDb}});
    Json pitches = Json::array();
    for (const PitchStretch& s : take->otherPitch)
        pitches.push_back(
            {{"from_s", s.fromS}, {"to_s", s.toS}, {"semitones_higher", s.semitonesHigher}, {"notes", s.notes}});
    Answer a;
    a.json = {{"matched", take->notes.size()},
              {"unmatched_first", take->unmatchedFirst},
              {"unmatched_second", take->unmatchedSecond},
              {"moved_ms", take->movedMs},
              {"offset_mean_ms", take->offsetMeanMs},
              {"offset_sd_ms", take->offsetSdMs},
              {"offset_median_ms", take->offsetMedianMs},
              {"drift_ms", take->driftMs},
              {"drift_doubt_ms", take->driftDoubtMs},
              {"offset_sd_doubt_ms", take->spreadDoubtMs()},
              {"offset_median_doubt_ms", take->medianDoubtMs()},
              {"tuning_mean_doubt_cents", orNull(take->tuningDoubtCents())},
              {"tuning_mean_cents", orNull(take->tuningMeanCents)},
              {"tuning_sd_cents", orNull(take->tuningSdCents)},
              {"level_difference_db", take->levelDifferenceDb},
              {"identical", take->isCopy},
              {"semitones_higher", take->semitonesHigher},
              {"other_pitch", pitches},
              {"other_notes", take->isOtherNotes},
              {"note", notes},
              {"findings", toJson(findings)}};
    if (!take->isUnrelated && !take->isTooShort())
        a.text = fmt::format(
            "{} notes in both, {} in the first alone, {} in the second alone\n"
            "offset {} ms (median {} +- {}, spread {} +- {}), tuning {} +- {} cents (spread {}), level {} dB\n",
            take->notes.size(), take->unmatchedFirst, take->unmatchedSecond, figureText(take->offsetMeanMs),
            figureText(take->offsetMedianMs), figureText(take->medianDoubtMs()), figureText(take->offsetSdMs),
            figureText(take->spreadDoubtMs()), shown(take->tuningMeanCents), shown(take->tuningDoubtCents()),
            shown(take->tuningSdCents), figureText(take->levelDifferenceDb));
    a.text += findingLines(findings);
    return a;
}

} // namespace

void addDouble(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("double", "Two performances of one part: do they make width?");
    command->add_option("FIRST", o->first, "One side")->required();
    command->add_option("SECOND", o->second, "The other side")->required();
    command->add_option("--tempo", o->tempoBpm, "Quarter notes a minute: bars that stray are then told")
        ->check(CLI::Range(20.0, 400.0));
    command->add_option("--quarters", o->quarters, "Of a bar")->capture_default_str()->check(CLI::Range(1.0, 16.0));
    command->add_option("--channel", o->channel, "Which channel of both, from 1")->check(CLI::Range(1, 64));
    command->add_option("--first-di", o->firstDi, "Its DI, recorded with it: notes and tuning are then told by that");
    command->add_option("--second-di", o->secondDi, "The same of the other side");
    command->callback([o, &job] { job = [o](const Surroundings& s) { return answer(*o, s.progress()); }; });
}

} // namespace gristle::cli
