#include "cli/report.h"
#include "core/mix/figures/signal_ledger.h"
#include "core/rig/nodes/loading.h"
#include "core/rig/rig_document.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string file, setup, returned;
    double inputDbu = 12.0, outputDbu = 12.0, boxDb = 0.0;
    bool inputKnown = false, outputKnown = false;
    int channel = 1;
};

Result<Answer> ledger(const Options& o, const Surroundings& s)
{
    auto chain = parseRecallLine("loading " + o.setup);
    if (!chain) return chain.error();
    if (chain->size() != 1) return Error{ErrorCode::Usage, "--setup: it is a list of key=value", "leave out | and {"};
    MeasureOptions options;
    const auto di = measureFile(o.file, options, s.progress());
    if (!di) return di.error();
    if (std::size_t(o.channel) > di->channels.size())
        return Error{ErrorCode::OutOfRange, o.file + ": it has no channel " + std::to_string(o.channel),
                     "name another with --channel"};
    std::optional<FileMeasurement> returned;
    if (!o.returned.empty()) {
        auto m = measureFile(o.returned, options, s.progress());
        if (!m) return m.error();
        returned = std::move(*m);
    }
    LedgerWish wish;
    wish.circuit = guitarCircuitOf(completeValues(*findNodeType("loading"), chain->front().values));
    wish.input = {o.inputDbu, !o.inputKnown};
    wish.reamp = {{o.outputDbu, !o.outputKnown}, o.boxDb};
    wish.channel = std::size_t(o.channel - 1);
    const SignalLedger l = signalLedger(*di, wish, options.referenceDbfs, returned ? &*returned : nullptr);
    Answer a;
    a.json["file"] = o.file;
    a.json["assumed"] = l.assumed;
    a.json["trim_doubt_db"] = l.trimDoubtDb;
    a.json["rung"] = Json::array();
    a.text = fmt::format("{:<20}{:>9}{:>9}{:>9}{:>10}{:>8}\n", "", "dBu", "peak", "noise", "headroom", "S/N");
    for (const PathRung& r : l.rungs) {
        a.json["rung"].push_back({{"name", r.name},
                                  {"level_dbu", orNull(r.levelDbu)},
                                  {"peak_dbu", orNull(r.peakDbu)},
                                  {"noise_dbu", orNull(r.noiseDbu)},
                                  {"headroom_db", orNull(r.headroomDb())},
                                  {"snr_db", orNull(r.snrDb())},
                                  {"estimate", r.estimate},
                                  {"limits_noise", r.limitsNoise},
                                  {"limits_headroom", r.limitsHeadroom}});
        a.text +=
            fmt::format("{:<20}{:>9}{:>9}{:>9}{:>10}{:>8}{}{}{}\n", r.title, shown(r.levelDbu), shown(r.peakDbu),
                        shown(r.noiseDbu), shown(r.headroomDb()), shown(r.snrDb()), r.estimate ? "  estimate" : "",
                        r.limitsHeadroom ? "  least headroom" : "", r.limitsNoise ? "  sets the noise" : "");
    }
    a.json["reamp"] = {{"trim_db", l.unityTrimDb},
                       {"output_headroom_db", orNull(l.outputHeadroomDb)},
                       {"return_error_db", orNull(l.returnErrorDb)}};
    a.text += fmt::format("reamp: {:+.1f} dB of trim give the amplifier the guitar's own voltage", l.unityTrimDb);
    if (l.outputHeadroomDb && *l.outputHeadroomDb < 0.0)
        a.text += fmt::format("; the output clips {:.1f} dB before that", -*l.outputHeadroomDb);
    if (l.returnErrorDb) a.text += fmt::format("\nreturn: {:+.1f} dB against the DI", *l.returnErrorDb);
    a.text += l.assumed
                  ? fmt::format("\nVolts are an assumption, within {:.1f} dB: name --input-dbu and --output-dbu.\n",
                                l.trimDoubtDb)
                  : "\n";
    return a;
}

} // namespace

void addLedger(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("ledger", "Level, noise and headroom from the string to the amplifier");
    command->add_option("FILE", o->file, "A DI")->required();
    auto* in = command->add_option("--input-dbu", o->inputDbu, "dBu of a full-scale sine at the input")
                   ->check(CLI::Range(-40.0, 60.0));
    auto* out = command->add_option("--output-dbu", o->outputDbu, "dBu of a full-scale sine at the output")
                    ->check(CLI::Range(-40.0, 60.0));
    command->add_option("--box-db", o->boxDb, "What the reamp box adds")->check(CLI::Range(-60.0, 60.0));
    command->add_option("--setup", o->setup,
                        "Guitar, cable and input as for `loading`: \"pickup=narrow cable=6 input=1000\"");
    command->add_option("--return", o->returned, "A recording of what arrived at the amplifier's input");
    command->add_option("--channel", o->channel, "Of FILE, from 1")->check(CLI::Range(1, 64));
    command->callback([o, in, out, &job] {
        o->inputKnown = in->count() > 0;
        o->outputKnown = out->count() > 0;
        job = [o](const Surroundings& s) { return ledger(*o, s); };
    });
}

} // namespace gristle::cli
