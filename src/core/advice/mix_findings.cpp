#include "core/advice/mix_findings.h"

#include "core/advice/file_findings.h"
#include "core/advice/rig_findings.h"
#include "core/advice/stem_findings.h"
#include "core/advice/stereo_findings.h"

#include <algorithm>

namespace gristle::core {

std::vector<Finding> mixFindings(const MixReport& report, const std::vector<std::string>& warnings,
                                 const std::string& subject)
{
    auto out = sumFindings(report.truePeakDbtp, report.clippedSamples, subject);
    const auto add = [&](std::vector<Finding> more) { std::ranges::move(more, std::back_inserter(out)); };
    std::vector<std::string> told = warnings, names;
    for (const auto& w : report.warnings)
        if (std::ranges::find(told, w) == told.end()) told.push_back(w);
    for (const auto& w : told) out.push_back(bypassedFinding(w, subject));
    if (auto f = notFiniteFinding(report.notFiniteSamples, subject)) out.push_back(std::move(*f));
    for (const auto& layer : report.layers) {
        if (auto f = truncatedFinding(layer.source, layer.name)) out.push_back(std::move(*f));
        names.push_back(layer.name);
    }
    if (report.truePeakDbtp) add(stereoFindings(report.stereo, subject)); // of silence there is nothing to say
    add(joinFindings(report.joins));
    add(bodyFindings(report.layers, names));
    rank(out);
    return out;
}

} // namespace gristle::core
