#pragma once

#include "core/session/session_document.h"

namespace gristle::core {

/// Where a take goes, by names.
struct TakePlace {
    std::string song, part, layer;
    std::string guitar{}, pickup{};  ///< empty: as the layer has them
    std::optional<double> place{};   ///< of a layer that has no take yet; none: as it is
    std::optional<LayerRole> role{}; ///< the same
    std::string source{};            ///< the same; empty: as it is
    double atS = 0.0;                ///< of the song, where the take's first frame is
    double clockS = 0.0;             ///< time stamp of bar 1, for a song that has no take yet
};

/// Whether a take of that role may go there. @error Usage where the layer has takes of another one
Outcome checkPlace(const SessionDocument& document, const TakePlace& into);

/// Puts a take where it goes: the layer of that name gets another one, which counts from now on as a whole, but for one
/// of some bars where there is another; songs, parts and layers that are not there are made. A new layer gets the rig
/// of the last one of its part that has one, else `firstRig`, where its role may have one. @return its layer
LayerPath addTake(SessionDocument& document, const TakePlace& into, Take take, const std::string& firstRig = {});

} // namespace gristle::core
