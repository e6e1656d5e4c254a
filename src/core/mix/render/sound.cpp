#include "core/mix/render/sound.h"

namespace gristle::core {

Result<std::shared_ptr<const Recording>> renderSound(const Sound& sound, double fromS, double toS, RenderCache& cache,
                                                     const Progress& progress)
{
    if (sound.mix) {
        auto mixed = mixToMemory(sound.layers, *sound.mix, fromS, toS, progress, &cache);
        if (!mixed) return mixed.error();
        return std::make_shared<const Recording>(std::move(*mixed));
    }
    LayerRecipe recipe = sound.layers.front().recipe;
    recipe.startS = fromS, recipe.endS = toS;
    const auto rendered = cache.layer(recipe, progress);
    if (!rendered) return rendered.error();
    return std::shared_ptr<const Recording>(*rendered, &(*rendered)->sound); // alive as long as the whole
}

} // namespace gristle::core
