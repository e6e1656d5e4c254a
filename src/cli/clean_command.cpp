#include "cli/report.h"
#include "core/advice/clean_findings.h"
#include "core/audio/file_place.h"
#include "core/mix/figures/clean_judge.h"
#include "core/mix/render/render.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string in, out, profile, removed;
    double mains = 0.0, reduce = 10.0, width = 0.1;
    bool noHum = false, isFloat = false;
    int channel = 0;
};

RigChain chainOf(const Options& o, std::optional<double> mainsHz)
{
    RigChain chain;
    const auto add = [&](const char* type, ParameterValues values) {
        RigNode node;
        node.type = type;
        node.values = std::move(values);
        chain.push_back(std::move(node));
    };
    if (mainsHz) add("humcomb", {{"mains", *mainsHz}, {"width", o.width}});
    if (!o.profile.empty()) {
        std::error_code ignored;
        add("hiss", {{"profile", std::filesystem::absolute(o.profile, ignored).string()}, {"reduce", o.reduce}});
    }
    return chain;
}

Result<Answer> clean(const Options& o, const Surroundings& s)
{
    for (const std::string& out : {o.out, o.removed})
        if (!out.empty())
            if (const auto may = checkOutput(out, {o.in, o.profile}); !may) return may.error();
    if (!o.removed.empty() &&
        std::filesystem::path(o.removed).lexically_normal() == std::filesystem::path(o.out).lexically_normal())
        return Error{ErrorCode::Usage, o.out + ": both results would have this name", "name two files"};
    const auto before = measureFile(o.in, {}, s.progress());
    if (!before) return before.error();
    const auto channel = chooseChannel(o.in, o.channel);
    if (!channel) return channel.error();
    std::optional<double> mains;
    if (!o.noHum) {
        const auto& hum = before->channels[*channel].noise.hum;
        if (o.mains > 0.0)
            mains = o.mains;
        else if (hum)
            mains = hum->mainsHz;
    }
    if (!mains && o.profile.empty())
        return Error{ErrorCode::Usage,
                     o.in + ": no mains series stands out in its rests, and no --hiss profile is named",
                     "name the frequency with --mains, or a recording of the noise with --hiss"};
    LayerRecipe recipe;
    recipe.file = o.in;
    recipe.channelFromOne = int(*channel) + 1;
    recipe.tailS = 0.0;
    recipe.rig.chain = chainOf(o, mains);
    const auto format = o.isFloat ? SampleFormat::Float32 : SampleFormat::Int24;
    const auto rendered = renderToFile(o.out, recipe, format, s.progress());
    if (!rendered) return rendered.error();
    const auto judged = judgeCleaning(o.in, *channel, o.out, s.progress());
    if (!judged) return judged.error();
    const auto after = measureFile(o.out, {}, s.progress());
    if (!after) return after.error();
    const auto& humBefore = before->channels[*channel].noise.hum;
    const auto& humAfter = after->channels[0].noise.hum;
    Answer a;
    a.json = {{"out", o.out},
              {"mains_hz", orNull(mains)},
              {"hum_before_dbfs", humBefore ? Json(humBefore->levelDbfs) : Json(nullptr)},
              {"hum_after_dbfs", humAfter ? Json(humAfter->levelDbfs) : Json(nullptr)},
              {"floor_before_dbfs", orNull(before->channels[*channel].noise.floorDbfs)},
              {"floor_after_dbfs", orNull(after->channels[0].noise.floorDbfs)}};
    a.text = fmt::format("{}: floor {} dBFS before, {} after", o.out, shown(before->channels[*channel].noise.floorDbfs),
                         shown(after->channels[0].noise.floorDbfs));
    std::vector<Finding> findings;
    if (*judged) {
        const CleanJudgement& j = **judged;
        a.json["loss_db"] = j.lossDb;
        a.json["worst_hz"] = j.worstLossDb > 0.0 ? Json(j.worstHz) : Json(nullptr);
        a.json["worst_loss_db"] = j.worstLossDb;
        a.json["costs_more"] = j.costsMore;
        a.text += fmt::format("; the guitar lost {:.2f} dB, at most {:.2f} dB around {:.0f} Hz", j.lossDb,
                              j.worstLossDb, j.worstHz);
        findings = cleanFindings(j);
    }
    if (!o.removed.empty()) {
        if (const auto wrote = writeRemoved(o.in, *channel, o.out, o.removed, format); !wrote) return wrote.error();
        a.json["removed"] = o.removed;
    }
    a.json["findings"] = toJson(findings);
    a.text += "\n" + findingLines(findings);
    return a;
}

} // namespace

void addClean(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("clean", "Hum and hiss as a last resort, with what it costs the guitar");
    command->add_option("IN", o->in, "A DI")->required();
    command->add_option("OUT", o->out, "The cleaned file; IN is never touched")->required();
    command->add_option("--mains", o->mains, "Hz; measured in the rests where left out")->check(CLI::Range(45.0, 65.0));
    command->add_option("--width", o->width, "Of each notch, Hz")->check(CLI::Range(0.02, 5.0))->capture_default_str();
    command->add_flag("--no-hum", o->noHum, "Leave the hum");
    command->add_option("--hiss", o->profile, "A recording of the noise alone, through the same input and gain");
    command->add_option("--reduce", o->reduce, "Most that hiss is turned down by, dB")
        ->check(CLI::Range(0.0, 30.0))
        ->capture_default_str();
    command->add_option("--removed", o->removed, "Write what was taken away, too");
    command->add_option("--channel", o->channel, "Of IN, from 1")->check(CLI::Range(1, 64));
    command->add_flag("--float", o->isFloat, "32-bit float");
    command->callback([o, &job] { job = [o](const Surroundings& s) { return clean(*o, s); }; });
}

} // namespace gristle::cli
