#include "cli/report.h"
#include "core/actions/capture_files.h"
#include "core/advice/impulse_findings.h"
#include "core/audio/audio_writer.h"
#include "core/audio/file_place.h"
#include "core/impulse/impulse_edit.h"
#include "core/units/number_text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string out, file, sweepFile, recording;
    std::vector<std::string> parts;
    SweepSettings sweep;
    ImpulseEdit edit;
    CaptureOptions capture;
    int channel = 0;
    bool align = false;
};

Json toJson(const ImpulseInfo& info)
{
    Json response = Json::array();
    for (const ResponsePoint& p : info.response) response.push_back({{"hz", p.hz}, {"db", p.db}});
    return {{"length_samples", info.lengthSamples},
            {"arrival_samples", info.arrivalSamples},
            {"energy_90_ms", info.energy90Ms},
            {"minimum_phase", info.isMinimumPhase},
            {"response", response}};
}

std::string textOf(const ImpulseInfo& info, int rateHz)
{
    return fmt::format("{} samples ({:.0f} ms), arrives at {}, 90 % of its energy within {} ms{}\n", info.lengthSamples,
                       1000.0 * double(info.lengthSamples) / rateHz, figureText(info.arrivalSamples, 0),
                       figureText(info.energy90Ms, 1), info.isMinimumPhase ? ", minimum phase" : "");
}

Result<Answer> answerOf(const Recording& impulse, const std::string& name)
{
    const auto info = impulseInfo(impulse);
    if (!info) return Error{info.error().code, name + ": " + info.error().message, info.error().remedy};
    Answer a;
    a.json = toJson(*info);
    const double rate = impulse.sampleRateHz, seconds = double(info->lengthSamples) / rate;
    const auto findings = impulseFindings({.energy90Ms = info->energy90Ms,
                                           .arrivalS = info->arrivalSamples / rate,
                                           .performedDb = looksPerformed(info->outstandingDb, info->energy90Ms, seconds)
                                                              ? std::optional(info->outstandingDb)
                                                              : std::nullopt},
                                          name);
    a.json["findings"] = cli::toJson(findings);
    a.text = name + ": " + textOf(*info, impulse.sampleRateHz) + findingLines(findings);
    return a;
}

Result<Answer> makeSweep(const Options& o)
{
    if (const auto may = checkOutput(o.out); !may) return may.error();
    const auto made = sweep(o.sweep);
    if (!made) return made.error();
    Recording recording{o.sweep.rateHz, AudioBuffer(1, made->size())};
    std::ranges::copy(*made, recording.audio.channel(0).begin());
    if (const auto written = writeRecording(o.out, recording, SampleFormat::Float32); !written) return written.error();
    Answer a;
    a.json = {{"out", o.out},
              {"from_hz", o.sweep.fromHz},
              {"to_hz", o.sweep.toHz},
              {"seconds", o.sweep.seconds},
              {"rate_hz", o.sweep.rateHz},
              {"frames", made->size()}};
    a.text =
        fmt::format("{}: {:g} to {:g} Hz in {:g} s at {} Hz. Start quietly: a sweep through an amplifier is loud, and "
                    "a valve amplifier needs its loudspeaker or a proper load.\n",
                    o.out, o.sweep.fromHz, o.sweep.toHz, o.sweep.seconds, o.sweep.rateHz);
    return a;
}

Result<Answer> captureImpulse(const Options& o)
{
    if (const auto may = checkOutput(o.out, {o.sweepFile, o.recording}); !may) return may.error();
    const auto channel = chooseChannel(o.recording, o.channel); // one file comes out
    if (!channel) return channel.error();
    const auto files = captureFiles({o.sweepFile, {o.recording}, int(*channel) + 1, o.capture});
    if (!files) return files.error();
    const auto& captured = files->set.each.front();
    if (!captured) return captured.error();
    if (const auto written = writeRecording(o.out, captured->impulse, SampleFormat::Float32); !written)
        return written.error();
    const auto& findings = files->each.front().findings;
    Answer a;
    a.json = {{"out", o.out},
              {"length_samples", captured->impulse.audio.frames()},
              {"arrival_samples", captured->arrivalSamples},
              {"snr_db", captured->snrDb},
              {"distortion_percent", captured->distortionPercent},
              {"order_percent", captured->orderPercent},
              {"drift_ppm", captured->driftPpm},
              {"drift_doubt_ppm", captured->driftDoubtPpm},
              {"drift_corrected", captured->isDriftCorrected},
              {"sweep",
               {{"from_hz", captured->settings.fromHz},
                {"to_hz", captured->settings.toHz},
                {"seconds", captured->settings.seconds}}},
              {"findings", cli::toJson(findings)}};
    a.text = fmt::format("{}: {} samples, arrives at {} in the recording, {} dB over the noise, distortion {} %\n",
                         o.out, captured->impulse.audio.frames(), figureText(captured->arrivalSamples, 0),
                         figureText(captured->snrDb), figureText(captured->distortionPercent, 2)) +
             findingLines(findings);
    return a;
}

/// FILE[:gain_db[:delay_samples[:invert]]]; a colon in a name is written \:.
Result<BlendPart> parsePart(const std::string& text)
{
    const auto bad = [&](const std::string& why) {
        return Error{ErrorCode::Usage, "blend: \"" + text + "\": " + why,
                     "write FILE[:gain_db[:delay_samples[:invert]]]"};
    };
    std::vector<std::string> fields{""};
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] == '\\' && i + 1 < text.size() && text[i + 1] == ':')
            fields.back() += text[++i];
        else if (text[i] == ':')
            fields.emplace_back();
        else
            fields.back() += text[i];
    }
    if (fields.size() > 4 || fields[0].empty()) return bad("it is no part of a blend");
    BlendPart part{fields[0]};
    if (fields.size() > 1 && !fields[1].empty()) {
        const auto gain = parseNumber(fields[1]);
        if (!gain || std::abs(*gain) > 120.0) return bad("its gain is no number from -120 to 120");
        part.gainDb = *gain;
    }
    if (fields.size() > 2 && !fields[2].empty()) {
        const auto delay = parseNumber(fields[2]);
        if (!delay || std::abs(*delay) > 192000.0) return bad("its delay is no number of samples");
        part.delaySamples = *delay;
    }
    if (fields.size() > 3) {
        if (fields[3] != "invert" && fields[3] != "1" && fields[3] != "true" && fields[3] != "0" && !fields[3].empty())
            return bad("the last word is \"invert\" or nothing");
        part.invert = !fields[3].empty() && fields[3] != "0";
    }
    return part;
}

Result<Answer> blend(const Options& o)
{
    std::vector<BlendPart> parts;
    for (const auto& text : o.parts) {
        auto part = parsePart(text);
        if (!part) return part.error();
        parts.push_back(std::move(*part));
    }
    std::vector<std::filesystem::path> inputs;
    for (const BlendPart& part : parts) inputs.push_back(part.file);
    if (const auto may = checkOutput(o.out, inputs); !may) return may.error();
    const auto blended = blendImpulses(parts, o.align);
    if (!blended) return blended.error();
    const auto edited = editImpulse(blended->sum, o.edit);
    if (!edited) return edited.error();
    if (const auto written = writeRecording(o.out, edited->impulse, SampleFormat::Float32); !written)
        return written.error();
    auto a = answerOf(edited->impulse, o.out);
    if (!a) return a.error();
    a->json["out"] = o.out;
    a->json["aligned_samples"] = blended->alignedSamples;
    a->json["front_samples"] = blended->frontSamples;
    a->json["gain_db"] = edited->gainDb;
    a->json["kept_from_hz"] = edited->keptFromHz;
    return a;
}

} // namespace

void addImpulse(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* impulse =
        app.add_subcommand("impulse", "Sweeps, captures and blends of loudspeaker-and-microphone responses");
    impulse->require_subcommand(1);
    const auto sub = [&](const char* name, const char* about, auto work) {
        CLI::App* command = impulse->add_subcommand(name, about);
        command->callback([o, &job, work] { job = [o, work](const Surroundings&) { return work(*o); }; });
        return command;
    };
    CLI::App* make = sub("sweep", "Writes an exponential sweep", makeSweep);
    make->add_option("OUT", o->out, "Where it goes")->required();
    make->add_option("--from", o->sweep.fromHz, "Hz")->capture_default_str();
    make->add_option("--to", o->sweep.toHz, "Hz")->capture_default_str();
    make->add_option("--seconds", o->sweep.seconds, "How long it takes")->capture_default_str();
    make->add_option("--rate", o->sweep.rateHz, "Hz")->capture_default_str()->check(CLI::Range(8000, 192000));
    CLI::App* take = sub("capture", "Makes an impulse of a recorded sweep", captureImpulse);
    take->add_option("--sweep", o->sweepFile, "What was played")->required();
    take->add_option("--recording", o->recording, "What was recorded of it")->required();
    take->add_option("OUT", o->out, "Where the impulse goes")->required();
    take->add_option("--channel", o->channel, "Which channel of the recording, from 1")->check(CLI::Range(1, 64));
    take->add_option("--length", o->capture.lengthS, "Seconds of the impulse")->capture_default_str();
    take->add_option("--repeats", o->capture.repeats, "How often the sweep was played: the mean is taken")
        ->capture_default_str();
    take->add_option("--period", o->capture.periodS, "Seconds from one start to the next; 0: the sweep's own length");
    take->add_flag("--minimum-phase", o->capture.minimumPhase, "As early as its magnitudes allow");
    take->add_flag("--keep-delay", o->capture.keepDelay, "Keeps the time up to the arrival");
    CLI::App* info = sub("info", "What an impulse is", [](const Options& own) -> Result<Answer> {
        const auto reader = AudioReader::open(own.file);
        if (!reader) return reader.error();
        const auto read = readRecording(own.file, 0, std::int64_t(30.0 * reader->info().sampleRateHz));
        if (!read) return read.error();
        return answerOf(*read, own.file);
    });
    info->add_option("FILE", o->file, "An impulse")->required();
    CLI::App* sum = sub("blend", "Sums impulses", blend);
    sum->add_option("OUT", o->out, "Where the sum goes")->required();
    sum->add_option("FILE", o->parts, "FILE[:gain_db[:delay_samples[:invert]]]")->required();
    sum->add_flag("--trim", o->edit.trim, "From 1 ms before the arrival");
    sum->add_option("--length-ms", o->edit.lengthMs, "From the arrival, with a fade over its last third");
    sum->add_flag("--minimum-phase", o->edit.minimumPhase, "As early as its magnitudes allow");
    sum->add_option("--low-cut", o->edit.lowCutHz, "Hz, 12 dB an octave");
    sum->add_option("--high-cut", o->edit.highCutHz, "Hz, 12 dB an octave");
    sum->add_option("--air", o->edit.airDb, "dB from 9 kHz");
    sum->add_flag("--match", o->edit.match, "As loud as without it");
    sum->add_flag("--align", o->align, "Brings all to the first one's arrival and polarity first");
}

} // namespace gristle::cli
