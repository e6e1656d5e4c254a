#include "core/actions/mix_layers.h"

#include "core/advice/mix_findings.h"
#include "core/mix/render/session_mix.h"

namespace gristle::core {

namespace {

Result<MixPlan> planned(const SessionFolder& session, const std::vector<const Part*>& parts, bool allowMissing)
{
    MixPlan out;
    out.options = mixOptions(session.document());
    for (const Part* part : parts)
        for (const Layer& layer : part->layers) {
            if (layer.takes.empty()) continue;
            auto recipe = layerRecipe(session, layer, allowMissing, out.warnings);
            if (!recipe) return recipe.error();
            out.layers.push_back({std::move(*recipe), layer.place, layer.gainDb});
        }
    if (out.layers.empty())
        return Error{ErrorCode::FileMissing, "mix: there is no take to mix", "add takes to the session"};
    return out;
}

} // namespace

Result<MixPlan> planMix(const SessionFolder& session, const Part& part, bool allowMissing)
{
    return planned(session, {&part}, allowMissing);
}

Result<MixPlan> planMix(const SessionFolder& session, const std::string& songName, const std::string& partName,
                        bool allowMissing)
{
    std::vector<const Part*> parts;
    bool songFound = false;
    for (const Song& song : session.document().songs) {
        if (songName.empty() ? songFound && partName.empty() : song.name != songName) continue;
        songFound = true;
        for (const Part& part : song.parts) {
            if (!partName.empty() && (part.name != partName || !parts.empty())) continue; // the first of that name
            parts.push_back(&part);
        }
    }
    if (!songFound && !songName.empty())
        return Error{ErrorCode::Usage, "song \"" + songName + "\": there is no such song", "see session info"};
    if (parts.empty() && !partName.empty())
        return Error{ErrorCode::Usage, "part \"" + partName + "\": there is no such part", "see session info"};
    return planned(session, parts, allowMissing);
}

Result<MixAnswer> writeMix(const std::filesystem::path& out, const MixPlan& plan, SampleFormat format,
                           const std::string& subject, const Progress& progress, RenderCache* cache)
{
    auto report = mixToFile(out, plan.layers, plan.options, format, progress, cache);
    if (!report) return report.error();
    auto findings = mixFindings(*report, plan.warnings, subject);
    return MixAnswer{std::move(*report), std::move(findings)};
}

} // namespace gristle::core
