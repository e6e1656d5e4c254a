#pragma once

#include "core/advice/finding.h"
#include "core/timing/double_take.h"
#include "core/units/bar_grid.h"

namespace gristle::core {

/// A bar that drags or rushes against the rest of its side.
struct StrayBar {
    int bar = 1;
    double offsetMs = 0.0; ///< its mean over the median of all; above 0: late
    int notes = 0;
};
/// Which bar a note of the first side belongs to.
struct BarPlace {
    BarGrid grid{120.0, "4/4"};
    double originS = 0.0; ///< of the recording, where the song begins; a little before it, for notes that come early
    int barOf(double seconds) const;
};
/// Bars whose mean is over 9 ms and over four standard errors from the median; of at least three notes.
std::vector<StrayBar> strayBars(const DoubleTake& take, const BarPlace& place);

std::string heardText(DoubleHeard heard); ///< "width"
/// "a semitone higher", "5 semitones lower", "an octave higher". @param higher  not 0
std::string semitonesText(int higher);
/// Do two performances make width? Codes: double.unrelated, double.tempo, double.few, double.copy, double.one,
/// double.width, double.loose, double.flam, double.side_late, double.drift, double.late_bar, double.early_bar,
/// double.tuning, double.missed.
/// @param place  none: the tempo is not known, and bars are not told
std::vector<Finding> doubleFindings(const DoubleTake& take, const std::optional<BarPlace>& place,
                                    const std::string& subject, const DoubleLimits& limits = {});

} // namespace gristle::core
