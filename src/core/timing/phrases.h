#pragma once

#include "core/timing/double_take.h"
#include "core/timing/take_measure.h"

namespace gristle::core {

/// Notes between two rests, of the second of two performances.
struct Phrase {
    double fromS = 0.0, toS = 0.0; ///< of the song, up to the next phrase
    int firstBar = 1, lastBar = 1;
    int notes = 0;         ///< that are paired
    double offsetMs = 0.0; ///< median of its pairs, later above 0
    std::optional<double> cents;
    double beforeMs = 0.0; ///< from the rest before it to its first note: by so much it can come earlier
};

/// The second performance in phrases: cut in the middle of rests (34 dB under its usual note for 50 ms) that are at
/// least a beat apart.
std::vector<Phrase> phrasesOf(const DoubleTake& take, const TakeMeasure& second, const BarGrid& grid);

/// Where a stretch of bars can be moved by so much: just before its first note and before the first note behind it,
/// whichever comes first, moved or not, so that neither attack is heard twice. None where no note begins within half a
/// beat of the bars' ends. @return from and to, seconds of the song
std::optional<std::pair<double, double>> movableBars(const TakeMeasure& second, const BarGrid& grid, int firstBar,
                                                     int lastBar, double laterMs);

} // namespace gristle::core
