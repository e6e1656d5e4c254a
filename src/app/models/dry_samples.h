#pragma once

#include "core/mix/render.h"

namespace gristle::app {

/// A layer or take as it is heard, from the beginning of the song, without rig. In a worker.
inline core::Result<std::vector<float>> drySamples(const core::LayerRecipe& recipe, const core::Progress& progress)
{
    core::RenderReport ignored;
    auto rendered = core::renderToMemory(recipe, ignored, {progress.stop, nullptr});
    if (!rendered) return rendered.error();
    const auto x = std::as_const(rendered->audio).channel(0);
    return std::vector<float>(x.begin(), x.end());
}

} // namespace gristle::app
