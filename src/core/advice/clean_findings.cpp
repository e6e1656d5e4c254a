#include "core/advice/clean_findings.h"

#include <algorithm>
#include <fmt/format.h>

namespace gristle::core {

std::vector<Finding> cleanFindings(const CleanJudgement& j)
{
    constexpr double kTolerableDb = 0.5;
    Finding f;
    f.subject = "cleaning";
    f.severity = j.costsMore ? Severity::Fix : Severity::Note;
    f.code = j.costsMore ? "clean.costs_more" : "clean.worth";
    f.title = j.costsMore ? "The cure costs more than the noise" : "The cleaning is worth it";
    f.message = fmt::format(
        "While nobody plays it is {} dB quieter; the guitar lost {} dB while it plays, at most {} dB around {:.0f} Hz.",
        j.restBeforeDbfs && j.restAfterDbfs ? figureText(*j.restBeforeDbfs - *j.restAfterDbfs) : "-",
        figureText(j.lossDb, 2), figureText(j.worstLossDb, 2), j.worstHz);
    f.remedy = j.costsMore ? "Take less away, or leave it and cure the noise where it comes from" : "";
    f.measured = j.worstLossDb;
    f.unit = "dB";
    f.low = 0.0, f.high = std::max(3.0, 1.25 * j.worstLossDb);
    f.target = 0.0, f.targetLow = 0.0, f.targetHigh = kTolerableDb;
    return {f};
}

} // namespace gristle::core
