#pragma once

#include <span>
#include <vector>

namespace gristle::core {

/// The beginning of a note or of a strummed chord.
struct Onset {
    double timeS = 0.0;     ///< the string's release
    double scrapeS = 0.0;   ///< where the pick is heard first, timeS or a few milliseconds before
    double chance = 0.0;    ///< that it is a note, 0.4 to 1
    double sharpDb = 0.0;   ///< by how much the prediction's error rises
    double levelDbfs = 0.0; ///< RMS of the 60 ms behind it, AES17
};

/// Onsets of a guitar: plucked, muted, strummed, driven, with one setting for all. Wherever something rises, the chance
/// that a note begins there is told from how it rises, lasts and stands beside its neighbours (onset_clues.h); a chord
/// that is strummed within 45 ms is one, told by its likeliest place (onset_place.h).
/// @return in the order of time; none of silence, and none under 2 kHz (0: nothing was read)
/// Cost: grows with the length, about 0.7 % of real time at 48 kHz.
std::vector<Onset> findOnsets(std::span<const float> mono, double rateHz);

struct OnsetCandidate;
/// The same from what onsetCandidates found.
std::vector<Onset> onsetsOf(std::span<const OnsetCandidate> candidates, std::span<const float> mono, double rateHz);

/// By how much the error of the prediction by what sounded before rises around a place, within 18 ms before it and 14
/// behind, dB: an attack that is too faint for a note of its own.
double attackSharpDb(std::span<const float> mono, double rateHz, double atS);

} // namespace gristle::core
