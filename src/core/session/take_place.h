#pragma once

#include "core/session/session_document.h"

namespace gristle::core {

/// Where a take goes, by names.
struct TakePlace {
    std::string song, part, layer;
    std::string guitar{}, pickup{}; ///< empty: as the layer has them
    std::optional<double> place{};  ///< of a layer that has no take yet; none: as it is
};

/// Puts a take where it goes: the layer of that name gets another one, which counts from now on as a whole, but for one
/// of some bars where there is another; songs, parts and layers that are not there are made. A new layer gets the rig
/// of the last one of its part that has one, else `firstRig`. @return its layer
LayerPath addTake(SessionDocument& document, const TakePlace& into, Take take, const std::string& firstRig = {});

} // namespace gristle::core
