#include "cli/report.h"
#include "cli/rig_option.h"
#include "core/actions/mix_layers.h"
#include "core/audio/file_place.h"
#include "core/units/number_text.h"
#include "core/units/text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string out;
    std::vector<std::string> layers;
    std::string session, song, part;
    RigOption rig;
    std::string law;
    bool match = false, isFloat = false;
};

Error badLayer(const std::string& text, const std::string& why)
{
    return {ErrorCode::Usage, "layer \"" + text + "\": " + why, "write FILE[:place[:gain_db]] with place -100 to 100"};
}

/// FILE[:place[:gain_db]]; the file may stand in double quotes or hold colons if it exists as it stands.
Result<MixLayer> parseLayer(const std::string& text)
{
    MixLayer layer;
    std::vector<std::string> fields{""};
    bool quoted = false;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (c == '"')
            quoted = !quoted;
        else if (quoted && c == '\\' && i + 1 < text.size())
            fields.back() += text[++i];
        else if (!quoted && c == ':')
            fields.emplace_back();
        else
            fields.back() += c;
    }
    if (isThere(text)) fields = {text};
    if (quoted) return badLayer(text, "a quotation mark is not closed");
    if (fields.size() > 3 || fields[0].empty()) return badLayer(text, "it is no layer");
    layer.recipe.file = fields[0];
    if (fields.size() > 1) {
        const auto place = parseNumber(fields[1]);
        if (!place || std::abs(*place) > 100.0) return badLayer(text, "its place is no number from -100 to 100");
        layer.place = *place;
    }
    if (fields.size() > 2) {
        const auto gain = parseNumber(fields[2]);
        if (!gain || std::abs(*gain) > 60.0) return badLayer(text, "its gain is no number from -60 to 60");
        layer.gainDb = *gain;
    }
    return layer;
}

Result<MixPlan> planOf(const Options& o)
{
    NodeContext context;
    RigDocument rig;
    MixPlan out;
    if (o.rig.given()) {
        auto read = o.rig.read(context, out.warnings);
        if (!read) return read.error();
        rig = std::move(*read);
    }
    if (!o.session.empty()) {
        if (!o.layers.empty())
            return Error{ErrorCode::Usage, "mix: layers and a session are named", "name one of them"};
        const auto session = SessionFolder::open(o.session, Access::Read);
        if (!session) return session.error();
        auto plan = planMix(*session, o.song, o.part, o.rig.allowMissing);
        if (!plan) return plan.error();
        std::ranges::move(plan->warnings, std::back_inserter(out.warnings));
        out.layers = std::move(plan->layers);
        out.options = plan->options;
    }
    for (const auto& text : o.layers) {
        auto layer = parseLayer(text);
        if (!layer) return layer.error();
        layer->recipe.allowMissing = o.rig.allowMissing;
        out.layers.push_back(std::move(*layer));
    }
    if (o.rig.given() || o.session.empty())
        for (MixLayer& layer : out.layers) {
            layer.recipe.rig = rig;
            layer.recipe.context = context;
        }
    out.options.match = o.match;
    if (!o.law.empty()) out.options.law = *parsePanLaw(o.law);
    return out;
}

Result<Answer> mix(const Options& o, const Surroundings& s)
{
    const auto plan = planOf(o);
    if (!plan) return plan.error();
    std::vector<std::filesystem::path> inputs{o.rig.rigFile};
    for (const MixLayer& layer : plan->layers) {
        const auto files = inputsOf(layer.recipe);
        inputs.insert(inputs.end(), files.begin(), files.end());
    }
    if (const auto may = checkOutput(o.out, inputs); !may) return may.error();
    const auto format = o.isFloat ? SampleFormat::Float32 : SampleFormat::Int24;
    const auto mixed = writeMix(o.out, *plan, format, shownName(o.out), s.progress());
    if (!mixed) return mixed.error();
    const MixReport* const report = &mixed->report;
    Answer a;
    a.json = {{"out", o.out}, {"frames", report->frames}, {"sample_rate_hz", report->rateHz}};
    a.json["layer"] = Json::array();
    a.text = fmt::format("{}: {} frames, {} LUFS, mono loses {} dB\n", o.out, report->frames,
                         shown(report->loudness.integratedLufs), shown(report->stereo.monoLossDb));
    for (const auto& l : report->layers) {
        a.json["layer"].push_back({{"file", l.file},
                                   {"place", l.place},
                                   {"gain_db", l.gainDb},
                                   {"integrated_lufs", orNull(l.integratedLufs)},
                                   {"body_db", orNull(l.bodyDb)}});
        a.text += fmt::format("  {}  place {:.0f}, gain {:.1f} dB, {} LUFS\n", l.file, l.place, l.gainDb,
                              shown(l.integratedLufs));
    }
    a.json["loudness"] = toJson(report->loudness);
    a.json["stereo"] = toJson(report->stereo);
    a.json["findings"] = toJson(mixed->findings);
    a.text += findingLines(mixed->findings);
    return a;
}

} // namespace

void addMix(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("mix", "Renders, places and sums layers to a stereo file");
    command->add_option("OUT", o->out, "The WAV file to write")->required();
    command->add_option("LAYER", o->layers, "FILE[:place[:gain_db]], place -100 to 100");
    command->add_option("--session", o->session, "Takes the layers of a session");
    command->add_option("--song", o->song, "Which song of the session; the first");
    command->add_option("--part", o->part, "Which part; all of the song");
    o->rig.addTo(*command);
    command->add_option("--law", o->law, "What the centre loses, dB")->check(CLI::IsMember({"3", "4.5", "6"}));
    command->add_flag("--match", o->match, "Brings all layers to the first one's loudness");
    command->add_flag("--float", o->isFloat, "32-bit float instead of 24-bit");
    command->callback([o, &job] { job = [o](const Surroundings& s) { return mix(*o, s); }; });
}

} // namespace gristle::cli
