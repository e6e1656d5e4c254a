#pragma once

#include "core/advice/finding.h"
#include "core/mix/render/mixdown.h"

namespace gristle::core {

/// What a sum of layers says, ranked: sumFindings(), stereoFindings(), joinFindings() and bodyFindings(), stages that
/// are bypassed, files that were cut short or held no numbers. @param warnings  of reading the rigs, besides those of
/// the report
std::vector<Finding> mixFindings(const MixReport& report, const std::vector<std::string>& warnings,
                                 const std::string& subject);

} // namespace gristle::core
