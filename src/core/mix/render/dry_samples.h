#pragma once

#include "core/mix/render/render.h"

namespace gristle::core {

/// A layer or take as it is heard, from the beginning of the song, without rig. In a worker.
inline Result<std::vector<float>> drySamples(const LayerRecipe& recipe, const Progress& progress)
{
    RenderReport ignored;
    auto rendered = renderToMemory(recipe, ignored, {progress.stop, nullptr});
    if (!rendered) return rendered.error();
    const auto x = std::as_const(rendered->audio).channel(0);
    return std::vector<float>(x.begin(), x.end());
}

} // namespace gristle::core
