#pragma once

#include "core/advice/finding.h"
#include "core/timing/align_files.h"

namespace gristle::core {

/// Do the microphones agree? Codes: align.stranger, align.inverted, align.late, align.phase, align.edge, align.agrees.
/// @param maxMs  up to which a delay was looked for
std::vector<Finding> alignFindings(const AlignedFiles& aligned, double maxMs);

/// "3.2 ms early (1.10 m)", "together".
std::string delayText(double delaySamples, double rateHz);

} // namespace gristle::core
