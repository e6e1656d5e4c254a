#include "cli/report.h"
#include "core/actions/sum_files.h"
#include "core/stereo/pan_law.h"
#include "core/units/decibels.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::vector<std::string> files;
    std::string law = "3";
    double maxMs = 50.0;
};

Json toJson(const std::string& file, const Alignment& a, double rateHz)
{
    Json bands = Json::array();
    for (const AlignedBand& b : a.bands)
        bands.push_back({{"hz", b.hz},
                         {"share", b.share},
                         {"coherence", b.coherence},
                         {"phase_degrees", b.phaseDegrees},
                         {"loss_db", b.lossBeforeDb}});
    return {{"file", file},
            {"delay_ms", 1000.0 * a.delaySamples / rateHz},
            {"polarity", a.isInverted ? "inverted" : "normal"},
            {"coherence", meanCoherence(a)},
            {"confidence", a.confidence},
            {"loss_db", a.lossBeforeDb},
            {"loss_aligned_db", a.lossAfterDb},
            {"band", bands}};
}

Result<Answer> sum(const Options& o, const Surroundings& s)
{
    const auto answer = sumFiles({o.files.begin(), o.files.end()}, o.maxMs, s.progress());
    if (!answer) return answer.error();
    const SumLoss& sum = answer->sum;
    Answer a;
    a.json["pair"] = Json::array();
    for (std::size_t i = 0; i < sum.pairs.size(); ++i) {
        const Alignment& p = sum.pairs[i];
        a.json["pair"].push_back(toJson(o.files[i + 1], p, answer->rateHz));
        a.text += fmt::format("{}: {} dB against {} as they are; {} ms {}, {}, confidence {}\n", o.files[i + 1],
                              figureText(p.lossBeforeDb, 2), o.files[0],
                              figureText(std::abs(1000.0 * p.delaySamples / answer->rateHz), 3),
                              p.delaySamples < 0.0 ? "earlier" : "later",
                              p.isInverted ? "inverted" : "the right way up", figureText(p.confidence, 2));
    }
    // All in the centre, where the law takes its decibels from each.
    const double centre = panMono(0.0, *parsePanLaw(o.law)).left;
    a.json["loss_db"] = sum.lossDb;
    a.json["best_file"] = o.files[sum.best];
    a.json["best_offset_ms"] = sum.bestOffsetMs;
    a.json["best_loss_db"] = sum.bestLossDb;
    a.json["sum_dbfs"] = orNull(aes17Dbfs(sum.sumPower * centre * centre));
    a.json["warning"] = answer->warnings;
    a.json["findings"] = cli::toJson(answer->findings);
    a.text += fmt::format("together: {} dB lost; {} dB with {} moved by {} ms\n", figureText(sum.lossDb, 2),
                          figureText(sum.bestLossDb, 2), o.files[sum.best], signedText(sum.bestOffsetMs, 3));
    for (const auto& warning : answer->warnings) a.text += warning + "\n";
    a.text += findingLines(answer->findings);
    return a;
}

} // namespace

void addSum(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("sum", "What signals lose where they meet");
    command->add_option("FILE", o->files, "Signals that begin together, two at least")->required()->expected(2, 64);
    command->add_option("--law", o->law, "What the centre loses, dB")
        ->check(CLI::IsMember({"3", "4.5", "6"}))
        ->capture_default_str();
    command->add_option("--max-ms", o->maxMs, "The longest delay that is looked for")->capture_default_str();
    command->callback([o, &job] { job = [o](const Surroundings& s) { return sum(*o, s); }; });
}

} // namespace gristle::cli
