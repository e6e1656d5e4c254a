#pragma once

#include <span>
#include <vector>

namespace gristle::core {

/// The beginning of a note or of a strummed chord.
struct Onset {
    double timeS = 0.0;     ///< the string's release
    double scrapeS = 0.0;   ///< where the pick is heard first, timeS or a few milliseconds before
    double strength = 0.0;  ///< of its rise over what sounded before, 1 at the threshold
    double sharpDb = 0.0;   ///< by how much the prediction's error rises
    double levelDbfs = 0.0; ///< RMS of the 60 ms behind it, AES17
};

/// Onsets of a guitar: plucked, muted, strummed, driven, with one setting for all. Coarsely by how much the levels of
/// 70 bands rise over the strongest of their neighbours 10 ms before (a bend moves within them, a new note does not),
/// against what is usual around, by how sharp they are and how much louder it gets; a chord that is strummed within
/// 45 ms is one. Then finely, where the error of a linear prediction by what sounded before changes its power, by the
/// likelihood ratio of two variances; where it grows nine times more within 2 to 9 ms, that was the pick's scrape, and
/// the string's release is the onset; a soft attack that swells 6 to 22 ms behind is placed there.
/// Sources: Boeck and Widmer 2013, Maximum filter vibrato suppression for onset detection (the rise); Bello et al.
/// 2005, A tutorial on onset detection in music signals (prediction errors); Basseville and Nikiforov 1993, Detection
/// of abrupt changes, ch. 2 (the ratio).
/// @return in the order of time; none of silence, and none under 2 kHz (0: nothing was read)
/// Cost: grows with the length, about 0.4 % of real time at 48 kHz.
std::vector<Onset> findOnsets(std::span<const float> mono, double rateHz);

/// By how much the error of the prediction by what sounded before rises around a place, within 18 ms before it and 14
/// behind, dB: an attack that is too faint for a note of its own.
double attackSharpDb(std::span<const float> mono, double rateHz, double atS);

} // namespace gristle::core
