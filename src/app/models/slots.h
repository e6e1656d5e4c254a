#pragma once

#include "app/models/audition.h"

namespace gristle::app {

/// A layer as one of the things being compared.
inline SlotRequest layerSlot(const QString& title, const core::LayerRecipe& recipe)
{
    return {title, {{{recipe}}, std::nullopt}};
}

/// Several layers at their places.
inline SlotRequest mixSlot(const QString& title, const std::vector<core::MixLayer>& layers,
                           const core::MixOptions& options)
{
    return {title, {layers, options}};
}

} // namespace gristle::app
