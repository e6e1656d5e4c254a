#pragma once

#include "core/advice/take_judgement.h"

#include <map>
#include <string>
#include <vector>

namespace gristle::core {

using CentsByNote = std::map<std::string, std::vector<double>>; ///< of the notes that sound alone, by their names

std::string lateText(double ms);     ///< "14 ms late"
std::string sharpText(double cents); ///< "6 cents sharp"
std::string countText(int n, const char* one, const char* many);
std::string barsText(const std::vector<int>& bars); ///< "bar 3", "bars 3, 5 and 7-8"

/// What is wrong with a judged take, as findings and in one sentence.
void tellTake(const TakeMeasure& take, const JudgeOptions& options, const CentsByNote& byNote, TakeJudgement& judged);

} // namespace gristle::core
