#include "core/mix/render/sound_key.h"

#include "core/units/content_key.h"

namespace gristle::core {

namespace {

void addChain(ContentKey& key, const RigChain& chain)
{
    key.add(chain.size());
    for (const RigNode& node : chain) {
        key.add(node.type);
        key.add(node.bypass);
        key.add(node.values.size());
        for (const auto& [name, value] : node.values) {
            key.add(name);
            key.add(value.index());
            std::visit([&](const auto& v) { key.add(v); }, value);
        }
        key.add(node.lanes.size());
        for (const RigChain& lane : node.lanes) addChain(key, lane);
    }
}

void addTake(ContentKey& key, const LayerRecipe& recipe)
{
    key.add(recipe.pieces.size());
    if (recipe.pieces.empty()) {
        key.addFile(recipe.file);
        key.add(recipe.channelFromOne);
    }
    for (const PieceRecipe& p : recipe.pieces) {
        key.addFile(p.file);
        key.add(p.channelFromOne);
        for (const double v : {p.atS, p.fromS, p.toS, p.laterS, p.cents, p.fadeS, p.gain}) key.add(v);
    }
}

void addFiles(ContentKey& key, const RigDocument& rig, const NodeContext& context)
{
    for (const std::string& file : filesOf(rig.chain)) {
        const auto path = context.folder / file;
        key.addFile(path);
        key.addFile(path.string() + ".json"); // its gain, kept beside it
    }
    key.add(context.boundary.string());
}

void addSends(ContentKey& key, const std::vector<MixSend>& sends)
{
    key.add(sends.size());
    for (const MixSend& send : sends) {
        key.add(send.to);
        key.add(send.gainDb);
    }
}

void addBus(ContentKey& key, const MixBus& bus)
{
    key.add(bus.rig.outputDb);
    addChain(key, bus.rig.chain);
    addFiles(key, bus.rig, bus.context);
    key.add(bus.scale.fullScaleVolts());
    key.add(bus.gainDb);
    key.add(bus.into);
    addSends(key, bus.sends);
    key.add(bus.isHeard);
}

void addImpulses(ContentKey& key, const LayerRecipe& recipe)
{
    addFiles(key, recipe.rig, recipe.context);
    key.add(recipe.impulses.size());
    for (const ImpulseInPlace& impulse : recipe.impulses) {
        key.add(impulse.name);
        if (!impulse.recording) {
            key.addFile(impulse.file);
            continue;
        }
        key.add(impulse.recording->sampleRateHz);
        for (std::size_t c = 0; c < impulse.recording->audio.channels(); ++c)
            key.add(impulse.recording->audio.channel(c));
    }
}

} // namespace

std::string soundKey(const LayerRecipe& recipe)
{
    ContentKey key;
    addTake(key, recipe);
    key.add(recipe.rig.outputDb);
    addChain(key, recipe.rig.chain);
    addImpulses(key, recipe);
    for (const double v : {recipe.input.fullScaleVolts(), recipe.output.fullScaleVolts(), recipe.startS, recipe.endS,
                           recipe.earlierS, recipe.tailS})
        key.add(v);
    for (const int v : {recipe.rateHz, int(recipe.isStereo), int(recipe.isInverted), int(recipe.allowMissing),
                        static_cast<int>(recipe.effort)})
        key.add(v);
    return key.text();
}

std::string soundKey(const std::vector<MixLayer>& layers, const MixOptions& options)
{
    ContentKey key;
    key.add(static_cast<int>(options.law));
    key.add(options.match);
    key.add(options.rateHz);
    key.add(layers.size());
    for (const MixLayer& layer : layers) {
        key.add(soundKey(layer.recipe));
        key.add(layer.place);
        key.add(layer.gainDb);
        key.add(layer.bus);
        addSends(key, layer.sends);
        key.add(layer.isHeard);
    }
    key.add(options.buses.size());
    for (const MixBus& bus : options.buses) addBus(key, bus);
    addBus(key, options.sum);
    key.add(options.frames);
    return key.text();
}

} // namespace gristle::core
