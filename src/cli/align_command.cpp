#include "cli/report.h"
#include "core/advice/align_findings.h"

#include <algorithm>
#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string reference;
    std::vector<std::string> others, keepLate;
    double maxMs = 50.0;
    int channel = 0;
    std::string write;
};

Json toJson(const AlignedFile& file, double rateHz)
{
    const Alignment& a = file.alignment;
    Json bands = Json::array();
    for (const AlignedBand& b : a.bands)
        bands.push_back({{"hz", b.hz},
                         {"share", b.share},
                         {"coherence", b.coherence},
                         {"phase_degrees", b.phaseDegrees},
                         {"sum_loss_before_db", b.lossBeforeDb},
                         {"sum_loss_after_db", b.lossAfterDb}});
    Json out{{"file", file.file.string()},
             {"delay_samples", a.delaySamples},
             {"delay_ms", 1000.0 * a.delaySamples / rateHz},
             {"distance_m", metresOf(a.delaySamples, rateHz)},
             {"polarity", a.isInverted ? "inverted" : "normal"},
             {"confidence", a.confidence},
             {"sum_loss_before_db", a.lossBeforeDb},
             {"sum_loss_after_db", a.lossAfterDb},
             {"sum_loss_least_db", a.leastLossDb},
             {"same_response", a.isAlike},
             {"kept_late", file.isKeptLate},
             {"band", bands}};
    if (!file.written.empty()) out["written"] = file.written.string();
    return out;
}

Result<Answer> align(const Options& o, const Surroundings& s)
{
    std::vector<AlignInput> others;
    for (const auto& file : o.others)
        others.push_back({file, o.channel, std::ranges::find(o.keepLate, file) != o.keepLate.end()});
    for (const auto& late : o.keepLate)
        if (std::ranges::find(o.others, late) == o.others.end())
            return Error{ErrorCode::Usage, fmt::format("align: {} is to be kept late and is none of the files", late),
                         "name it among the others, too"};
    auto aligned = alignFiles({o.reference, o.channel}, others, o.maxMs, s.progress());
    if (!aligned) return aligned.error();
    if (!o.write.empty())
        if (const auto written = writeAligned(*aligned, o.write, s.progress()); !written) return written.error();
    const auto findings = alignFindings(*aligned, o.maxMs);
    Answer a;
    a.json["reference"] = o.reference;
    a.json["rate_hz"] = aligned->rateHz;
    if (!aligned->referenceWritten.empty()) a.json["reference_written"] = aligned->referenceWritten.string();
    a.json["pair"] = Json::array();
    for (const AlignedFile& file : aligned->others) {
        a.json["pair"].push_back(toJson(file, aligned->rateHz));
        a.text += fmt::format("{}: {}, {}, confidence {}; the sum loses {} dB as it is, {} dB {}\n", file.file.string(),
                              delayText(file.alignment.delaySamples, aligned->rateHz),
                              file.alignment.isInverted ? "inverted" : "the right way up",
                              figureText(file.alignment.confidence, 2), figureText(file.alignment.lossBeforeDb, 2),
                              figureText(file.alignment.lossAfterDb, 2), file.isKeptLate ? "kept late" : "aligned");
        if (!file.written.empty()) a.text += fmt::format("  written to {}\n", file.written.string());
    }
    a.json["findings"] = cli::toJson(findings);
    a.text += findingLines(findings);
    return a;
}

} // namespace

void addAlign(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("align", "Delay and polarity of microphones on one performance");
    command->add_option("REFERENCE", o->reference, "What the others are compared with")->required();
    command->add_option("OTHER", o->others, "Other recordings of the same performance")->required();
    command->add_option("--max-ms", o->maxMs, "The longest delay that is looked for")->capture_default_str();
    command->add_option("--channel", o->channel, "Which channel of every file, from 1")->check(CLI::Range(1, 64));
    command->add_option("--keep-late", o->keepLate, "One of the others whose delay is meant: polarity only");
    command->add_option("--write", o->write, "Writes moved copies into this folder");
    command->callback([o, &job] { job = [o](const Surroundings& s) { return align(*o, s); }; });
}

} // namespace gristle::cli
