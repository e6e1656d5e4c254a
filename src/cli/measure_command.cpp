#include "cli/report.h"
#include "core/advice/level_findings.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string file;
    double reference = -18.0;
    std::string target = "average";
    std::string mains = "auto";
};

std::string channelText(const ChannelMeasurement& c, std::size_t index)
{
    std::string out =
        fmt::format("channel {}: peak {} dBFS, true peak {} dBTP, RMS {} dBFS, crest {} dB, VU typical {} max {}\n",
                    index + 1, shown(c.level.peakDbfs), shown(c.truePeakDbtp), shown(c.level.rmsDbfs),
                    shown(c.level.crestDb), shown(c.vuTypical), shown(c.vuMax));
    out += fmt::format(
        "           noise floor {} dBFS, signal to noise {} dB, hum {}\n", shown(c.noise.floorDbfs),
        shown(c.noise.snrDb),
        c.noise.hum ? fmt::format("{:.2f} Hz at {:.1f} dBFS", c.noise.hum->mainsHz, c.noise.hum->levelDbfs) : "-");
    return out;
}

Result<Answer> measure(const Options& o, const Surroundings& s)
{
    MeasureOptions options;
    options.referenceDbfs = o.reference;
    options.target = o.target == "peak" ? TargetSchool::Peak : TargetSchool::Average;
    options.mains = o.mains == "50" ? Mains::Hz50 : o.mains == "60" ? Mains::Hz60 : Mains::Auto;
    const auto m = measureFile(o.file, options, s.progress());
    if (!m) return m.error();
    const auto findings = levelFindings(*m, options);
    Answer a;
    a.json = {{"file", o.file},
              {"sample_rate_hz", m->info.sampleRateHz},
              {"channels", m->info.channels},
              {"frames", m->info.frames},
              {"duration_s", m->info.durationS()}};
    a.json["channel"] = Json::array();
    a.text = fmt::format("{}: {} Hz, {} channel(s), {:.2f} s\n", o.file, m->info.sampleRateHz, m->info.channels,
                         m->info.durationS());
    for (std::size_t c = 0; c < m->channels.size(); ++c) {
        a.json["channel"].push_back(toJson(m->channels[c]));
        a.text += channelText(m->channels[c], c);
    }
    a.json["loudness"] = toJson(m->loudness);
    a.json["advice"] = {{"target", o.target}, {"gain_change_db", orNull(m->advice.gainChangeDb)}};
    a.json["findings"] = toJson(findings);
    a.text += fmt::format(
        "loudness   {} LUFS, momentary {} short-term {}, range {} LU\nadvice     {} ({})\n",
        shown(m->loudness.integratedLufs), shown(m->loudness.momentaryMaxLufs), shown(m->loudness.shortTermMaxLufs),
        shown(m->loudness.rangeLu),
        m->advice.gainChangeDb ? fmt::format("change the gain by {} dB", shown(m->advice.gainChangeDb)) : "none",
        o.target);
    a.text += findingLines(findings);
    return a;
}

} // namespace

void addMeasure(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command =
        app.add_subcommand("measure", "Levels, VU, loudness, noise and hum of a file, and what to change");
    command->add_option("FILE", o->file, "An audio file")->required();
    command->add_option("--reference", o->reference, "dBFS at 0 VU")
        ->check(CLI::Range(-60.0, 0.0))
        ->capture_default_str();
    command->add_option("--target", o->target, "The school of the target")
        ->check(CLI::IsMember({"average", "peak"}))
        ->capture_default_str();
    command->add_option("--mains", o->mains, "Mains frequency")
        ->check(CLI::IsMember({"auto", "50", "60"}))
        ->capture_default_str();
    command->callback([o, &job] { job = [o](const Surroundings& s) { return measure(*o, s); }; });
}

} // namespace gristle::cli
