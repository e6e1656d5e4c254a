#include "core/mix/render/session_mix.h"

namespace gristle::core {

LayerRecipe layerRecipe(const SessionFolder& session, const Take& take, const RigDocument& rig)
{
    LayerRecipe recipe;
    recipe.file = session.path() / take.file;
    recipe.channelFromOne = take.channel;
    recipe.isStereo = take.isStereo;
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

MixOptions mixOptions(const SessionDocument& document)
{
    MixOptions out;
    out.law = document.law;
    out.rateHz = document.sampleRateHz;
    return out;
}

} // namespace gristle::core
