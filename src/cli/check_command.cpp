#include "cli/report.h"
#include "core/advice/capture_check.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    CheckFiles files;
    double reference = -18.0;
    std::string target = "average";
    int channel = 1;
};

Json turnJson(const CaptureCheck& c)
{
    if (!c.turn) return nullptr;
    Json out = {{"best_s", c.turn->best.timeS},
                {"best_dbfs", c.turn->best.levelDbfs},
                {"worst_s", c.turn->worst.timeS},
                {"worst_dbfs", c.turn->worst.levelDbfs},
                {"difference_db", c.turn->differenceDb}};
    out["trace"] = Json::array();
    for (const HumPoint& p : c.turnTrace)
        out["trace"].push_back({{"time_s", p.timeS}, {"level_dbfs", orNull(p.levelDbfs)}});
    return out;
}

Result<Answer> check(Options o, const Surroundings& s)
{
    MeasureOptions options;
    options.referenceDbfs = o.reference;
    options.target = o.target == "peak" ? TargetSchool::Peak : TargetSchool::Average;
    o.files.channel = std::size_t(o.channel - 1);
    const auto judged = judgeCapture(o.files, options, s.progress());
    if (!judged) return judged.error();
    const CaptureCheck& c = judged->check;
    Answer a;
    a.json = {{"gain_change_db", orNull(c.gainChangeDb)},
              {"average_dbfs", orNull(c.averageDbfs)},
              {"peak_dbtp", orNull(c.peakDbtp)},
              {"margin_db", orNull(c.marginDb)},
              {"margin_after_db", orNull(c.marginAfterDb)},
              {"floor_dbfs", orNull(c.floorDbfs)},
              {"snr_db", orNull(c.snrDb)},
              {"hum", toJson(c.hum)},
              {"turn", turnJson(c)},
              {"bursts", c.bursts},
              {"fall_db", orNull(c.fallDb)},
              {"brightness_db", orNull(c.brightnessDb)},
              {"findings", toJson(judged->findings)}};
    a.text = fmt::format("change the gain by {} dB; the hardest chord then peaks {} dB under full scale\n"
                         "averages {} dBFS, peak {} dBTP, floor {} dBFS, signal to noise {} dB\n",
                         shown(c.gainChangeDb), shown(c.marginAfterDb), shown(c.averageDbfs), shown(c.peakDbtp),
                         shown(c.floorDbfs), shown(c.snrDb)) +
             findingLines(judged->findings);
    return a;
}

} // namespace

void addCheck(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command =
        app.add_subcommand("check", "Is the input set right? From a rest, a turn, the part, the hardest chord");
    command->add_option("--rest", o->files.rest, "Strings muted, a second or more")->required();
    command->add_option("--turn", o->files.turn, "Still muted, while the player turns");
    command->add_option("--play", o->files.play, "The part as it will be played")->required();
    command->add_option("--hardest", o->files.hardest, "The loudest chord");
    command->add_option("--channel", o->channel, "The input that the guitar is on, from 1")->check(CLI::Range(1, 64));
    command->add_option("--reference", o->reference, "dBFS at 0 VU")->check(CLI::Range(-60.0, 0.0));
    command->add_option("--target", o->target, "The school of the target")->check(CLI::IsMember({"average", "peak"}));
    command->callback([o, &job] { job = [o](const Surroundings& s) { return check(*o, s); }; });
}

} // namespace gristle::cli
