#pragma once

#include "core/timing/onsets.h"
#include "core/units/bar_grid.h"
#include "core/units/progress.h"
#include "core/units/result.h"

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace gristle::core {

/// A note of a take, at its place in the song. A chord is one.
struct PlayedNote {
    double timeS = 0.0;            ///< of the song
    double levelDbfs = 0.0;        ///< RMS of the 60 ms behind its onset, AES17
    std::optional<double> clickMs; ///< later than the division of the beat it is nearest to
    std::optional<double> cents;   ///< against the nearest note of equal temperament; none where several strings sound
    std::string name;              ///< of that note, "E2"
    double hz = 0.0;               ///< where that is told
    double stiffness = 0.0;        ///< with it: B of the string's partials, see Pitch
    double stiffnessDoubt = 0.0;   ///< its standard error
    std::optional<int> string;     ///< with it, from the lowest, 0 to 5, where it can be told
};

/// A burst that is no note, between notes.
struct StrayNoise {
    double timeS = 0.0;
    double levelDb = 0.0; ///< its loudest 10 ms, against the usual note
};

/// What is measured of one take by itself.
struct TakeMeasure {
    double atS = 0.0, endS = 0.0;          ///< of the song, what the file holds
    double spanFromS = 0.0, spanToS = 0.0; ///< what is judged
    std::vector<PlayedNote> notes;         ///< in the span
    int notesBefore = 0; ///< before the song's first bar, where the take is of the whole song: they are not rendered
    std::vector<StrayNoise> noises;
    std::vector<double> clippedS; ///< places of clipped stretches, 10 ms each
    int divisions = 0;            ///< of a quarter note, that the notes keep to; 0: to none of 1, 2, 3, 4
    double usualDbfs = 0.0;       ///< median level of its notes
    std::vector<float> levelDb;   ///< each 10 ms from atS on, RMS against the usual note
    /// Of the sound behind each 10 ms: levels of eight octaves, for joins.
    std::vector<std::array<float, 8>> octavesDb;

    std::array<std::string, 6> stringNames{}; ///< from the lowest; empty where the tuning is not known

    double levelAt(double songS) const; ///< dB against the usual note; -120 outside
};

struct TakeMeasureOptions {
    double atS = 0.0;                              ///< of the first sample
    double spanFromS = 0.0, spanToS = 0.0;         ///< empty: all of it from the song's beginning on
    double referenceHz = 440.0;                    ///< of A4
    std::optional<std::array<double, 6>> openHz{}; ///< the strings, from the lowest; none: no string is told
    int capo = 0;                                  ///< its fret
};

/// Measures a take against the bars of its song: onsets, their place against the divisions of the beat that they keep
/// to (the coarsest of 1, 2, 3 and 4 that nine notes in ten are within a quarter of), pitches where one string sounds,
/// bursts between notes (a rise of 9 dB within 50 ms, 12 dB over what is there, that is no onset), clipped samples.
/// @error OutOfRange where nobody plays in it; Cancelled
/// Cost: in proportion to the length, some 2 % of real time, and 5 ms a note for pitches.
Result<TakeMeasure> measureTake(std::span<const float> mono, double rateHz, const BarGrid& grid,
                                const TakeMeasureOptions& options, const Progress& progress = {});

/// Notes that all but one of several performances have, by their places in the song.
struct MissedNotes {
    std::vector<double> missedS; ///< the others have them
    std::vector<double> addedS;  ///< the others do not
};
/// Of performance `which`: notes within 80 ms are one. Two thirds of the others must have a note for it to be missed,
/// and less than a third for it to be added; where the others have one, two octaves that rise by 4 dB are enough to
/// have it. Nothing of one alone.
MissedNotes missedNotes(const std::vector<const TakeMeasure*>& performances, std::size_t which);

} // namespace gristle::core
