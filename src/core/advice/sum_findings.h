#pragma once

#include "core/advice/finding.h"
#include "core/timing/sum_loss.h"

namespace gristle::core {

/// Do they work against each other where they meet? Two performances do not, whatever their delay; signals of one
/// performance may. Codes: sum.inverted, sum.late, sum.phase. Nothing where nothing is lost that could be had.
/// @param names  of the signals, the first one's too
std::vector<Finding> meetingFindings(const std::vector<std::string>& names, const SumLoss& sum, double rateHz);

} // namespace gristle::core
