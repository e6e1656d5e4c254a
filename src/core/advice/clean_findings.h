#pragma once

#include "core/advice/finding.h"
#include "core/mix/figures/clean_judge.h"

namespace gristle::core {

/// What cleaning did, in judgements. Codes: clean.worth, clean.costs_more.
std::vector<Finding> cleanFindings(const CleanJudgement& judgement);

} // namespace gristle::core
