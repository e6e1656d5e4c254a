#include "cli/report.h"
#include "cli/rig_option.h"
#include "core/actions/write_stems.h"
#include "core/audio/file_place.h"
#include "core/session/layer_role.h"
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
    std::string stems, by = "layer";
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
        plan->warnings.insert(plan->warnings.begin(), out.warnings.begin(), out.warnings.end());
        out = std::move(*plan);
    }
    for (const auto& text : o.layers) {
        auto layer = parseLayer(text);
        if (!layer) return layer.error();
        layer->recipe.allowMissing = o.rig.allowMissing;
        layer->recipe.name = validText(layer->recipe.file.stem().string());
        out.origins.emplace_back();
        out.layers.push_back(std::move(*layer));
    }
    if (o.rig.given() || o.session.empty())
        for (std::size_t i = 0; i < out.layers.size(); ++i) {
            if (!mayHaveRig(out.origins[i].role)) continue;
            out.layers[i].recipe.rig = rig;
            out.layers[i].recipe.context = context;
        }
    if (out.options.sum.name.empty()) out.options.sum.name = "the sum";
    out.options.match = o.match;
    if (!o.law.empty()) out.options.law = *parsePanLaw(o.law);
    return out;
}

/// With the gains that the mix was made with, so that stems are matched as it is.
MixPlan asMixed(MixPlan plan, const MixReport& report)
{
    for (std::size_t i = 0; i < plan.layers.size(); ++i) plan.layers[i].gainDb = report.layers[i].gainDb;
    plan.options.match = false;
    return plan;
}

Json joinsJson(const std::vector<JoinFigures>& joins)
{
    Json out = Json::array();
    for (const JoinFigures& join : joins) {
        Json bands = Json::array();
        for (std::size_t b = 0; b < kOctaveHz.size(); ++b)
            bands.push_back({{"hz", kOctaveHz[b]}, {"loss_db", join.octaveLossDb[b]}});
        out.push_back({{"name", join.name}, {"signals", join.count}, {"loss_db", join.lossDb}, {"band", bands}});
    }
    return out;
}

void addStems(Answer& a, const StemsAnswer& stems)
{
    a.json["stem"] = Json::array();
    for (const auto& stem : stems.stems) {
        Json layers = Json::array();
        for (const auto& layer : stem.report.layers) layers.push_back(layer.name);
        a.json["stem"].push_back({{"file", stem.file.string()},
                                  {"frames", stem.report.frames},
                                  {"layer", layers},
                                  {"integrated_lufs", orNull(stem.report.loudness.integratedLufs)}});
        a.text += fmt::format("  {}  {} LUFS\n", stem.file.string(), shown(stem.report.loudness.integratedLufs));
    }
    a.json["residual_dbfs"] = stems.residualDbfs;
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
    if (!o.stems.empty())
        if (const auto may = checkStemsFolder(o.stems); !may) return may.error();
    const auto format = o.isFloat ? SampleFormat::Float32 : SampleFormat::Int24;
    auto mixed = writeMix(o.out, *plan, format, shownName(o.out), s.progress());
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
    a.json["section"] = Json::array();
    for (const auto& one : report->spans) {
        a.json["section"].push_back({{"name", one.span.name},
                                     {"from_s", one.span.fromS},
                                     {"to_s", one.span.toS},
                                     {"integrated_lufs", orNull(one.integratedLufs)},
                                     {"peak_dbfs", orNull(one.peakDbfs)},
                                     {"width", orNull(one.width)},
                                     {"mono_loss_db", orNull(one.monoLossDb)}});
        a.text += fmt::format("  {}  {} LUFS, width {}\n", one.span.name, shown(one.integratedLufs), shown(one.width));
    }
    a.json["join"] = joinsJson(report->joins);
    if (!o.stems.empty()) {
        const auto stems =
            writeStems(o.stems, asMixed(*plan, *report), *parseStemsBy(o.by), o.out, format, s.progress());
        if (!stems) return stems.error();
        addStems(a, *stems);
        std::ranges::copy(stems->findings, std::back_inserter(mixed->findings));
        rank(mixed->findings);
    }
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
    command->add_option("--stems", o->stems, "A folder for the mix's parts, which sum to it");
    command->add_option("--by", o->by, "What a stem holds")
        ->check(CLI::IsMember({"layer", "part", "side", "bus"}))
        ->capture_default_str();
    command->add_option("--law", o->law, "What the centre loses, dB")->check(CLI::IsMember({"3", "4.5", "6"}));
    command->add_flag("--match", o->match, "Brings all layers to the first one's loudness");
    command->add_flag("--float", o->isFloat, "32-bit float instead of 24-bit");
    command->callback([o, &job] { job = [o](const Surroundings& s) { return mix(*o, s); }; });
}

} // namespace gristle::cli
