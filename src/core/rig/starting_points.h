#pragma once

#include "core/rig/rig_document.h"

#include <array>

namespace gristle::core {

/// A rig of our own to begin with: what to listen for, and the controls that matter. None imitates a recording, a
/// person or a product.
struct StartingPoint {
    const char* title;  ///< also the name of the rig
    const char* listen; ///< what to listen for
    struct Control {
        const char *stage, *key; ///< the first stage of this type
        const char* does;
    };
    std::array<Control, 3> controls;
    const char* line; ///< recall line; its impulse is any, its note values count at any tempo
};

const std::vector<StartingPoint>& startingPoints();
const StartingPoint* findStartingPoint(const std::string& title);

/// The rig of a starting point. @param impulse  file of the session's loudspeaker impulse; empty: the stage is left
/// out.
/// @param tempoBpm  of the song, for echoes
RigDocument rigOf(const StartingPoint& point, const std::string& impulse, double tempoBpm);

} // namespace gristle::core
