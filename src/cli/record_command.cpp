#include "cli/report.h"
#include "core/advice/level_findings.h"
#include "core/audio/file_place.h"
#include "core/session/recorded_take.h"
#include "core/units/text.h"
#include "engine/rt/recorder.h"
#include "engine/simulated/simulated_device.h"

#include <chrono>
#include <filesystem>
#include <fmt/format.h>
#include <thread>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string out, device;
    std::string session, song, part, layer = "Layer 1";
    std::vector<int> inputs{1};
    double seconds = 0.0, rate = 48000.0, countInS = 0.0, gainDb = 0.0;
    int buffer = 256;
    bool isFloat = false, fast = false, isForced = false;
};

/// Output that says nothing: recording alone needs a source too.
class Quiet final : public engine::AudioSource {
public:
    void fill(float* left, float* right, std::size_t frames) noexcept override
    {
        std::fill_n(left, frames, 0.0f);
        std::fill_n(right, frames, 0.0f);
    }
};

/// Lets the device run for a while: the simulated one as fast as it can, where that was asked for. False where the
/// device was lost or somebody wants to stop.
bool letRun(engine::AudioDevice& device, const Options& o, double seconds, const Surroundings& s,
            const std::function<bool()>& over)
{
    constexpr double kStepS = 0.02;
    auto* simulated = dynamic_cast<engine::SimulatedDevice*>(&device);
    for (double at = 0.0; (seconds <= 0.0 || at < seconds) && !over(); at += kStepS) {
        if (s.stop.stop_requested() || !device.isRunning()) return false;
        if (o.fast && simulated)
            simulated->advance(static_cast<std::size_t>(kStepS * o.rate));
        else
            std::this_thread::sleep_for(std::chrono::duration<double>(kStepS));
    }
    return true;
}

Json gapsJson(const engine::RecordReport& report, double rate)
{
    Json out = Json::array();
    for (const engine::Gap& gap : report.gaps)
        out.push_back(
            {{"frame", gap.frame}, {"time_s", double(gap.frame) / rate}, {"cause", gap.fromSystem ? "xrun" : "disk"}});
    return out;
}

Result<std::unique_ptr<engine::AudioDevice>> deviceFor(const Options& o, std::size_t channels)
{
    auto device = engine::openDevice({o.device, o.rate, std::size_t(o.buffer), channels});
    if (!device || !o.fast) return device;
    auto* simulated = dynamic_cast<engine::SimulatedDevice*>(device->get());
    if (!simulated) return Error{ErrorCode::Usage, "--fast: only the simulated interface can run fast", "leave it out"};
    simulated->setClock(engine::SimulatedDevice::Clock::Manual);
    return device;
}

/// A name beside OUT that is seen and free: what is there when a program ends is found.
std::filesystem::path whileRecording(const std::filesystem::path& out)
{
    std::string stem = cutText(out.stem().string(), 200) + ".recording";
    std::filesystem::path at = out.parent_path() / (stem + ".wav");
    for (int n = 2; isThere(at); ++n) at = out.parent_path() / (stem + " " + std::to_string(n) + ".wav");
    return at;
}

/// Where the recording goes while it runs: beside its place, or into a session's audio/ with its note.
struct Place {
    std::filesystem::path file;
    std::optional<SessionFolder> session; ///< locked for as long
};

Result<Place> placeFor(const Options& o, const engine::AudioDevice& device)
{
    if (o.session.empty() == o.out.empty())
        return Error{ErrorCode::Usage, "record: name a file or a session, one of them",
                     "record OUT, or record --session DIR --part NAME"};
    if (o.session.empty()) {
        if (const auto may = checkOutput(o.out); !may) return may.error();
        if (isThere(o.out) && !o.isForced)
            return Error{ErrorCode::Usage, shownName(o.out) + ": there is a file of this name already",
                         "take another name, or record over it with --force"};
        return Place{whileRecording(o.out), std::nullopt};
    }
    if (o.part.empty())
        return Error{ErrorCode::Usage, "record --session: the part is not named", "name it with --part"};
    auto session = SessionFolder::open(o.session, Access::Write);
    if (!session) return session.error();
    RecordingNote note;
    const std::string song = !o.song.empty()                     ? o.song
                             : session->document().songs.empty() ? "Song 1"
                                                                 : session->document().songs.front().name;
    for (std::size_t i = 0; i < o.inputs.size(); ++i) // a layer an input
        note.targets.push_back({song, o.part, o.inputs.size() > 1 ? fmt::format("{} {}", o.layer, i + 1) : o.layer,
                                o.inputs.size() > 1 ? int(i + 1) : 0});
    note.recorded = localNow();
    note.source = fmt::format("{}, input {}", device.name(), fmt::join(o.inputs, ", "));
    note.input = session->document().interface;
    note.layout = {int(o.rate), int(o.inputs.size()), o.isFloat ? SampleFormat::Float32 : SampleFormat::Int24};
    auto file = beginRecording(session->path(), note);
    if (!file) return file.error();
    return Place{std::move(*file), std::move(*session)};
}

/// Gives the recording its name. @return where it is now
Result<std::filesystem::path> keep(const Options& o, Place& place, const engine::RecordReport& report)
{
    if (!place.session) {
        if (report.failure && isThere(o.out)) // half a recording takes no whole one's place
            return Error{report.failure->code,
                         report.failure->message + "; what there was of the recording is kept as " +
                             shownName(place.file) + ", and " + shownName(o.out) + " as it was",
                         report.failure->remedy};
        const auto placed = o.isForced ? putInPlace(place.file, o.out) : putInNewPlace(place.file, o.out);
        if (!placed && isThere(place.file))
            return Error{placed.error().code,
                         placed.error().message + ", and the recording is kept as " + shownName(place.file),
                         placed.error().remedy};
        if (!placed) return placed.error();
        return std::filesystem::path(o.out);
    }
    std::vector<std::int64_t> gaps;
    for (const engine::Gap& gap : report.gaps) gaps.push_back(gap.frame);
    const auto takes = keepRecording(*place.session, place.file, gaps, localNow(),
                                     fmt::format("Take recorded, {:.1f} s", double(report.frames) / o.rate));
    if (!takes) return takes.error();
    return place.session->path() / takes->front().take.file;
}

Result<Answer> record(const Options& o, const Surroundings& s)
{
    if (o.fast && o.seconds <= 0.0)
        return Error{ErrorCode::Usage, "--fast: it needs an end", "say how long with --seconds"};
    const std::size_t channels = std::size_t(*std::ranges::max_element(o.inputs));
    auto device = deviceFor(o, channels);
    if (!device) return device.error();
    if (auto* simulated = dynamic_cast<engine::SimulatedDevice*>(device->get())) simulated->room()->setGainDb(o.gainDb);
    auto place = placeFor(o, **device);
    if (!place) return place.error();
    engine::RecordPlan plan;
    plan.file = place->file;
    plan.format = {int(o.rate), o.inputs.size(), o.isFloat ? SampleFormat::Float32 : SampleFormat::Int24,
                   o.session.empty() ? std::filesystem::path(o.out).stem().string() : o.part, localNow()};
    plan.inputs.clear();
    for (const int input : o.inputs) plan.inputs.push_back(std::size_t(input - 1));
    plan.frames = std::llround(o.seconds * o.rate);
    Quiet quiet;
    engine::Recorder recorder;
    if (const auto started = (*device)->start(quiet, &recorder); !started) return started.error();
    if (!letRun(**device, o, o.countInS, s, [&] { return o.countInS <= 0.0; }))
        return Error{ErrorCode::Cancelled, "recording: stopped before it began", ""};
    if (const auto started = recorder.start(plan); !started) return started.error();
    const double longest = o.seconds > 0.0 ? o.seconds + 10.0 : 0.0;
    const bool whole = letRun(**device, o, longest, s, [&] { return !recorder.isRecording(); });
    const bool lost = !(*device)->isRunning();
    const std::string ended = (*device)->endedBecause();
    const auto report = recorder.finish();
    (*device)->stop();
    if (report.frames == 0) {
        place->session ? dropRecording(place->file) : discard(place->file);
        return report.failure ? *report.failure
                              : Error{ErrorCode::WriteFailed, "recording: the device gave no samples",
                                      "check that it runs, then try again"};
    }
    const auto kept = keep(o, *place, report);
    if (!kept) return kept.error();
    const auto m = measureFile(*kept, {}, s.progress());
    if (!m) return m.error();
    const auto findings = levelFindings(*m, {});
    Answer a;
    a.json = {{"out", kept->string()},
              {"device", (*device)->name()},
              {"sample_rate_hz", int(o.rate)},
              {"channels", o.inputs.size()},
              {"frames", report.frames},
              {"duration_s", double(report.frames) / o.rate},
              {"gaps", gapsJson(report, o.rate)},
              {"lost_frames", report.lostFrames}};
    a.json["channel"] = Json::array();
    for (const auto& c : m->channels) a.json["channel"].push_back(toJson(c));
    a.json["findings"] = toJson(findings);
    a.text = fmt::format("{}: {:.2f} s from {}, {} gap(s)\n", kept->string(), double(report.frames) / o.rate,
                         (*device)->name(), report.gaps.size()) +
             findingLines(findings);
    if (report.failure) {
        a.exitCode = 4;
        a.complaint = report.failure->line() + fmt::format(" ({:.2f} s were kept)", double(report.frames) / o.rate);
    } else if (!whole && lost) {
        a.exitCode = 4;
        a.complaint = fmt::format("{}: the device {}; {:.2f} s were kept", (*device)->name(), ended,
                                  double(report.frames) / o.rate);
    }
    return a;
}

} // namespace

void addRecord(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("record", "Records inputs to a file, measured at once");
    command->add_option("OUT", o->out, "The file to write, WAV with a broadcast chunk");
    command->add_option("--session", o->session, "Record a take into a session instead");
    command->add_option("--song", o->song, "Of the session; the first where left out");
    command->add_option("--part", o->part, "Of the session; made where it is not there");
    command->add_option("--layer", o->layer, "Of the part; made where it is not there")->capture_default_str();
    command->add_option("--device", o->device, "An id that `devices` lists; the default where left out");
    command->add_option("--inputs", o->inputs, "Channels of the device, from 1: 1,2")
        ->delimiter(',')
        ->check(CLI::Range(1, 32))
        ->capture_default_str();
    command->add_option("--seconds", o->seconds, "How long; until Ctrl+C where left out")
        ->check(CLI::Range(0.0, 86400.0));
    command->add_option("--rate", o->rate, "Sample rate, Hz")
        ->check(CLI::Range(8000.0, 192000.0))
        ->capture_default_str();
    command->add_option("--buffer", o->buffer, "Frames a block")->check(CLI::Range(16, 8192))->capture_default_str();
    command->add_option("--count-in", o->countInS, "Seconds before it begins")->check(CLI::Range(0.0, 60.0));
    command->add_flag("--float", o->isFloat, "32-bit float");
    command->add_option("--gain", o->gainDb, "Preamp of the simulated interface, dB")->check(CLI::Range(-20.0, 60.0));
    command->add_flag("--force", o->isForced, "Record over a file that is there already");
    command->add_flag("--fast", o->fast, "The simulated interface runs as fast as it can");
    command->callback([o, &job] {
        for (std::string* text : {&o->song, &o->part, &o->layer}) *text = validText(*text);
        job = [o](const Surroundings& s) { return record(*o, s); };
    });
}

} // namespace gristle::cli
