#pragma once

#include "core/timing/take_measure.h"

namespace gristle::core {

/// Open strings of a tuning by its name, Hz, the lowest first: "E standard", "Eb standard", "drop C#", or six notes,
/// "D A D G A D", each taken where it is nearest to the usual one. None where the name is another.
std::optional<std::array<double, 6>> openStrings(const std::string& tuning, double referenceHz = 440.0);

/// "A", of open strings of the same name "low E" and "high E".
std::array<std::string, 6> stringNames(const std::array<double, 6>& openHz, double referenceHz = 440.0);

/// Tells of notes that sound alone on which string they were played, where that can be told: a pitch that one string
/// alone has, else by the string's stiffness. B of a string grows by 2^(n/6) to the n-th fret (it goes with 1 / L^2,
/// Fletcher 1964), so the notes of a string share what it is when open. These six figures are learned from the take,
/// beside what light sets have give or take 0.4 octave, by giving each note to the string that it is nearest to, and by
/// trying all notes of one string on another. A note is told where its string is 20 times as likely as any other, by
/// itself and with all that were given to that string.
/// @param capo  the fret it lies at, 0 for none
/// Cost: in proportion to the notes.
void tellStrings(std::vector<PlayedNote>& notes, const std::array<double, 6>& openHz, int capo = 0);

} // namespace gristle::core
