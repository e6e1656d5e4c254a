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
    recipe.earlierS = -take.atS;
    return recipe;
}

LayerRecipe layerRecipe(const SessionFolder& session, const Layer& layer, const RigDocument& rig)
{
    const Take& take = *layer.chosenTake();
    LayerRecipe recipe = layerRecipe(session, take, rig);
    recipe.name = layer.name;
    for (const Piece& piece : heardPieces(layer)) {
        const Take& t = layer.takes[piece.take];
        recipe.pieces.push_back({session.path() / t.file, t.channel, t.atS, piece.fromS,
                                 t.isPunch() ? t.spanToS + 0.001 * piece.laterMs : 1e9, 0.001 * piece.laterMs,
                                 piece.cents, 0.001 * piece.fadeMs,
                                 t.input.fullScaleVolts() / take.input.fullScaleVolts()});
    }
    if (!recipe.pieces.empty()) recipe.earlierS = 0.0; // they have their places
    recipe.earlierS += 0.001 * layer.earlierMs;
    recipe.isInverted = layer.isInverted;
    return recipe;
}

Result<LayerRecipe> layerRecipe(const SessionFolder& session, const Layer& layer, bool allowMissing,
                                std::vector<std::string>& warnings)
{
    if (!layer.chosenTake()) return Error{ErrorCode::FileMissing, layer.name + ": it has no take yet", "bring one in"};
    RigDocument rig;
    if (!layer.rig.empty()) {
        auto loaded = session.loadRig(layer.rig, allowMissing ? Unknown::Bypass : Unknown::Refuse, warnings);
        if (!loaded) return loaded.error();
        rig = std::move(*loaded);
    }
    LayerRecipe recipe = layerRecipe(session, layer, rig);
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
