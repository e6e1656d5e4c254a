#pragma once

#include "core/advice/finding.h"
#include "core/timing/double_take.h"

namespace gristle::core {

/// A bar that drags or rushes against the rest of its side.
struct StrayBar {
    int bar = 1;
    double offsetMs = 0.0; ///< its mean over the median of all; above 0: late
    int notes = 0;
};
/// Bars from the first paired note on, whose mean is over 9 ms and over four standard errors from the median; of at
/// least three notes. @param barS  seconds
std::vector<StrayBar> strayBars(const DoubleTake& take, double barS);

/// Do two performances make width? Codes: double.unrelated, double.copy, double.one, double.width, double.loose,
/// double.flam, double.side_late, double.late_bar, double.early_bar, double.tuning, double.missed.
/// @param barS  0: the tempo is not known, and bars are not told
std::vector<Finding> doubleFindings(const DoubleTake& take, double barS, const std::string& subject);

} // namespace gristle::core
