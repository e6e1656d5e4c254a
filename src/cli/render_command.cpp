#include "cli/report.h"
#include "cli/rig_option.h"
#include "core/advice/rig_findings.h"
#include "core/audio/file_place.h"
#include "core/units/text.h"

#include <chrono>
#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string in, out;
    RigOption rig;
    double fullScale = 12.0;
    std::optional<double> outFullScale;
    int channel = 0;
    double tail = -1.0;
    bool isFloat = false;
    std::uint64_t seed = 0;
};

std::optional<double> db(double value, double reference)
{
    return value > 0.0 ? std::optional<double>(amplitudeToDb(value / reference)) : std::nullopt;
}

Result<Answer> render(const Options& o, const Surroundings& s)
{
    LayerRecipe recipe;
    std::vector<std::string> warnings;
    if (!o.rig.given()) return Error{ErrorCode::Usage, "render: no rig is named", "name one with --rig or --chain"};
    auto rig = o.rig.read(recipe.context, warnings);
    if (!rig) return rig.error();
    recipe.rig = std::move(*rig);
    recipe.file = o.in;
    recipe.channelFromOne = o.channel;
    recipe.input = {o.fullScale, false};
    recipe.output = {o.outFullScale.value_or(o.fullScale), false};
    recipe.tailS = o.tail;
    recipe.allowMissing = o.rig.allowMissing;
    auto inputs = inputsOf(recipe);
    inputs.push_back(o.rig.rigFile);
    if (const auto may = checkOutput(o.out, inputs); !may) return may.error();
    const auto began = std::chrono::steady_clock::now();
    auto report = renderToFile(o.out, recipe, o.isFloat ? SampleFormat::Float32 : SampleFormat::Int24, s.progress());
    if (!report) return report.error();
    const double took = std::chrono::duration<double>(std::chrono::steady_clock::now() - began).count();
    report->warnings.insert(report->warnings.begin(), warnings.begin(), warnings.end());
    const auto findings = rigFindings(*report, recipe.rig, std::nullopt, shownName(o.in));
    Answer a;
    const double factor = report->durationS / std::max(took, 1e-9);
    a.json = {{"out", o.out},
              {"frames", report->frames},
              {"latency_samples", report->latencySamples},
              {"realtime_factor", factor}};
    a.json["stages"] = Json::array();
    a.text = fmt::format("{}: {} frames, {:.0f} x real time\n", o.out, report->frames, factor);
    const double fullScale = report->inputFullScaleVolts;
    for (const StageLevels& st : report->stages) {
        constexpr double kSine = 1.4142135623730951; // AES17: a full-scale sine is 0
        a.json["stages"].push_back({{"node", st.node},
                                    {"in_rms_dbfs", orNull(db(st.inRmsV() * kSine, fullScale))},
                                    {"out_rms_dbfs", orNull(db(st.outRmsV() * kSine, fullScale))},
                                    {"in_peak_dbfs", orNull(db(st.inPeak, fullScale))},
                                    {"out_peak_dbfs", orNull(db(st.outPeak, fullScale))},
                                    {"in_rms_v", st.inRmsV()},
                                    {"out_rms_v", st.outRmsV()}});
        a.text += fmt::format("  {:<12} {:>9.4f} V in  {:>9.4f} V out{}\n", st.node, st.inRmsV(), st.outRmsV(),
                              st.bypass ? "  (bypassed)" : "");
    }
    a.json["findings"] = toJson(findings);
    a.text += findingLines(findings);
    return a;
}

} // namespace

void addRender(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("render", "Renders a DI through a rig");
    command->add_option("IN", o->in, "A DI")->required();
    command->add_option("OUT", o->out, "The WAV file to write")->required();
    o->rig.addTo(*command);
    command->add_option("--full-scale-dbu", o->fullScale, "dBu of a full-scale sine at the input")
        ->check(CLI::Range(-40.0, 60.0))
        ->capture_default_str();
    command->add_option("--out-full-scale-dbu", o->outFullScale, "The same at the output; as the input's")
        ->check(CLI::Range(-40.0, 60.0));
    command->add_option("--channel", o->channel, "Which channel, from 1")->check(CLI::Range(1, 64));
    command->add_option("--tail", o->tail, "Seconds after the end; by default what the rig needs")
        ->check(CLI::Range(0.0, 3600.0));
    command->add_flag("--float", o->isFloat, "32-bit float instead of 24-bit");
    command->add_option("--seed", o->seed, "Seed of nodes that use chance (no node does yet)");
    command->callback([o, &job] { job = [o](const Surroundings& s) { return render(*o, s); }; });
}

} // namespace gristle::cli
