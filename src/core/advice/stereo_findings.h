#pragma once

#include "core/advice/finding.h"
#include "core/measure/stereo_measure.h"
#include "core/mix/copies.h"

namespace gristle::core {

/// Do the sides make one picture? Codes: stereo.mono, stereo.inverted, stereo.mono_loss, stereo.low_end,
/// stereo.balance, stereo.silent_side, stereo.wide.
std::vector<Finding> stereoFindings(const StereoResult& stereo, const std::string& subject);

/// One performance heard several times: stereo.copies. @param names  of the layers, as the mix has them
std::vector<Finding> copyFindings(const std::vector<CopiedPerformance>& copies, const std::vector<std::string>& names);

/// What the sum needs: mix.clipped, mix.peak.
std::vector<Finding> sumFindings(std::optional<double> truePeakDbtp, std::int64_t clippedSamples,
                                 const std::string& subject);

} // namespace gristle::core
