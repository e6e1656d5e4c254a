#include "core/mix/session_mix.h"

namespace gristle::core {

LayerRecipe layerRecipe(const SessionFolder& session, const Take& take, const RigDocument& rig)
{
    LayerRecipe recipe;
    recipe.file = session.path() / take.file;
    recipe.channelFromOne = take.channel;
    recipe.rig = rig;
    recipe.context.folder = session.path();
    recipe.context.boundary = session.path();
    recipe.input = take.input;
    recipe.output = session.document().interface;
    recipe.rateHz = session.document().sampleRateHz;
    return recipe;
}

Result<LayerRecipe> layerRecipe(const SessionFolder& session, const Layer& layer, bool allowMissing,
                                std::vector<std::string>& warnings)
{
    const Take* take = layer.chosenTake();
    if (!take) return Error{ErrorCode::FileMissing, layer.name + ": it has no take yet", "bring one in"};
    RigDocument rig;
    if (!layer.rig.empty()) {
        auto loaded = session.loadRig(layer.rig, allowMissing ? Unknown::Bypass : Unknown::Refuse, warnings);
        if (!loaded) return loaded.error();
        rig = std::move(*loaded);
    }
    LayerRecipe recipe = layerRecipe(session, *take, rig);
    recipe.name = layer.name;
    recipe.earlierS = 0.001 * layer.earlierMs;
    recipe.isInverted = layer.isInverted;
    recipe.allowMissing = allowMissing;
    return recipe;
}

Result<std::vector<MixLayer>> sessionMix(const SessionFolder& session, const std::string& songName,
                                         const std::string& partName, bool allowMissing,
                                         std::vector<std::string>& warnings)
{
    std::vector<MixLayer> out;
    bool songFound = false, partFound = false;
    for (const Song& song : session.document().songs) {
        if (songName.empty() ? songFound && partName.empty() : song.name != songName) continue;
        songFound = true;
        for (const Part& part : song.parts) {
            if (!partName.empty() && part.name != partName) continue;
            if (partFound && !partName.empty()) break; // the first part of that name
            partFound = true;
            for (const Layer& layer : part.layers) {
                if (layer.takes.empty()) continue;
                auto recipe = layerRecipe(session, layer, allowMissing, warnings);
                if (!recipe) return recipe.error();
                out.push_back({std::move(*recipe), layer.place, layer.gainDb});
            }
        }
    }
    if (!songFound && !songName.empty())
        return Error{ErrorCode::Usage, "song \"" + songName + "\": there is no such song", "see session info"};
    if (!partFound && !partName.empty())
        return Error{ErrorCode::Usage, "part \"" + partName + "\": there is no such part", "see session info"};
    if (out.empty()) return Error{ErrorCode::FileMissing, "mix: there is no take to mix", "add takes to the session"};
    return out;
}

} // namespace gristle::core
