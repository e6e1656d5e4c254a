#pragma once

#include <span>

namespace gristle::core {

/// Where within a stretch the prediction by what came before it fails.
struct OnsetPlace {
    double timeS = 0.0;   ///< the string's release
    double scrapeS = 0.0; ///< where the pick is heard first
    double sharpDb = 0.0; ///< power of the prediction's error, the 4 ms behind over what was before
};

/// The place within 18 ms before and 14 ms behind a rough one where the error of a linear prediction by what sounded
/// before changes its power, by the likelihood ratio of two variances; where it grows nine times more within 2 to 9 ms,
/// that was the pick's scrape, and the string's release is the place; a soft attack that swells 6 to 22 ms behind is
/// placed there.
/// Sources: Bello et al. 2005, A tutorial on onset detection in music signals (prediction errors); Basseville and
/// Nikiforov 1993, Detection of abrupt changes, ch. 2 (the ratio).
OnsetPlace onsetPlace(std::span<const float> x, double rateHz, double roughS);

} // namespace gristle::core
