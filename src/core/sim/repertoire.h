#pragma once

#include "core/sim/performance.h"

#include <string>

namespace gristle::core {

/// What the simulated player knows. Made up for it; times in quarter notes.

/// Muted eighths on one string with chords on the accents; two bars a chord, four quarters a bar.
std::vector<WrittenNote> rhythmRiff(int bars);
/// Single notes high up, with bends and slides; four quarters a bar.
std::vector<WrittenNote> leadLine(int bars);
/// Broken chords, one note an eighth.
std::vector<WrittenNote> brokenChords(int bars, double quartersPerBar);

/// Sixteenth notes on muted low strings, accents on the beats.
std::vector<WrittenNote> mutedSixteenths(int bars);
/// A chord over all strings on each quarter note, four of them in turn.
std::vector<WrittenNote> strummedChords(int bars);

/// What he plays for a part of that name: a lead, broken chords, or a riff where it says nothing.
std::vector<WrittenNote> partFor(const std::string& name, int bars, double quartersPerBar);
/// The strings of a tuning that he knows by its name; standard where he does not.
OpenStrings stringsOf(const std::string& tuning);

} // namespace gristle::core
