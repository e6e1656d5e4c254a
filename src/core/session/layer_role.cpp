#include "core/session/layer_role.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace gristle::core {

namespace {

struct Role {
    LayerRole role;
    const char *name, *words;
    std::vector<std::string> sources;
    bool hasRig, isStereo, isInMix, isOfTheBand;
};

const Role& entryOf(LayerRole role)
{
    static const std::vector<std::string> instruments{"guitar", "bass", "acoustic", "keys"};
    static const std::vector<std::string> band{"mix", "drums", "bass", "voice", "keys"};
    static const std::array<Role, 4> all{
        {{LayerRole::Di, "di", "a DI", instruments, true, false, true, false},
         {LayerRole::Microphone, "mic", "a microphone", instruments, false, true, true, false},
         {LayerRole::Backing, "backing", "a backing", band, false, true, true, true},
         {LayerRole::Reference, "reference", "a reference", {}, false, true, false, true}}};
    return all[static_cast<std::size_t>(role)];
}

} // namespace

std::string nameOf(LayerRole role) { return entryOf(role).name; }

std::string wordsOf(LayerRole role) { return entryOf(role).words; }

std::optional<LayerRole> parseRole(const std::string& name)
{
    for (const auto role : {LayerRole::Di, LayerRole::Microphone, LayerRole::Backing, LayerRole::Reference})
        if (name == entryOf(role).name) return role;
    return std::nullopt;
}

const std::vector<std::string>& sourcesOf(LayerRole role) { return entryOf(role).sources; }

std::string sourceOf(const Layer& layer)
{
    const auto& all = sourcesOf(layer.role);
    return !layer.source.empty() || all.empty() ? layer.source : all.front();
}

bool mayHaveRig(LayerRole role) { return entryOf(role).hasRig; }
bool mayBeStereo(LayerRole role) { return entryOf(role).isStereo; }
bool isInMix(LayerRole role) { return entryOf(role).isInMix; }
bool isOfTheBand(LayerRole role) { return entryOf(role).isOfTheBand; }

Outcome setRole(Layer& layer, LayerRole role, const std::string& source)
{
    const auto& sources = sourcesOf(role);
    if (!source.empty() && std::ranges::find(sources, source) == sources.end())
        return Error{ErrorCode::Usage, fmt::format("\"{}\" is nothing that {} can be", source, wordsOf(role)),
                     sources.empty() ? "leave it out" : fmt::format("say {}", fmt::join(sources, ", "))};
    if (!mayBeStereo(role) && std::ranges::any_of(layer.takes, &Take::isStereo))
        return Error{ErrorCode::Usage,
                     fmt::format("layer \"{}\": it has stereo takes, and {} is one signal", layer.name, wordsOf(role)),
                     "bring the file in again as one channel, or as the mean of both"};
    layer.role = role;
    layer.source = source;
    if (!mayHaveRig(role)) layer.rig.clear();
    return Done{};
}

} // namespace gristle::core
