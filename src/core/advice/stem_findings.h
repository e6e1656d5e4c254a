#pragma once

#include "core/advice/finding.h"
#include "core/mix/render/bus_network.h"

namespace gristle::core {

/// Do stems sum to their mix? Code: stems.apart, where they do not.
/// @param shared  buses whose rigs several of them go through together
std::vector<Finding> stemFindings(const std::vector<std::string>& shared, bool doSum, double residualDbfs);

/// Where signals meet and lose more than 2 dB of their power. Code: mix.join_loses.
std::vector<Finding> joinFindings(const std::vector<JoinFigures>& joins);

} // namespace gristle::core
