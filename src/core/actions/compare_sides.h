#pragma once

#include "core/mix/render/render_cache.h"
#include "core/session/session_document.h"
#include "core/stereo/complement.h"

namespace gristle::core {

/// What the two sides of a part are to each other, through their rigs and at one level.
struct ComparedSides {
    std::optional<Complement> now;       ///< none where it could not be told
    std::optional<Complement> exchanged; ///< with the rigs exchanged; none where they are alike
    std::string trouble;                 ///< why not
};
/// @param first, second  of one rate, over one stretch @error none: what fails is told in `trouble`
/// Cost: four renders of the stretch and two without a rig, those that the cache lacks.
ComparedSides compareSides(const LayerRecipe& first, const LayerRecipe& second, RenderCache& cache,
                           const Progress& progress = {});

/// The two layers of a part that are its sides: `layer` where it has a take, else the first that has one, and one on
/// the other side of the middle, else another one. In the order of the part; none where there are no two.
std::optional<std::pair<std::size_t, std::size_t>> sidesOf(const Part& part, std::size_t layer);

} // namespace gristle::core
