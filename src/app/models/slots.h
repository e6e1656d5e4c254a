#pragma once

#include "app/models/audition.h"
#include "core/mix/mixdown.h"

namespace gristle::app {

/// A layer as one of the things being compared.
inline SlotRequest layerSlot(const QString& title, const core::LayerRecipe& recipe)
{
    return {title, [recipe](double from, double to, const core::Progress& p) {
                core::LayerRecipe r = recipe;
                r.startS = from, r.endS = to;
                core::RenderReport ignored;
                return core::renderToMemory(r, ignored, p);
            }};
}

/// Several layers at their places.
inline SlotRequest mixSlot(const QString& title, const std::vector<core::MixLayer>& layers,
                           const core::MixOptions& options)
{
    return {title, [layers, options](double from, double to, const core::Progress& p) {
                return core::mixToMemory(layers, options, from, to, p);
            }};
}

} // namespace gristle::app
