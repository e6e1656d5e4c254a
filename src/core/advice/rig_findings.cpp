#include "core/advice/rig_findings.h"

#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

std::vector<Finding> rigFindings(const RenderReport& report, const RigDocument& rig,
                                 std::optional<double> diAverageDbfs, const std::string& subject)
{
    std::vector<Finding> out;
    for (const auto& warning : report.warnings)
        out.push_back({Severity::Fix,
                       "rig.missing",
                       subject,
                       "A stage is bypassed",
                       warning + ".",
                       {},
                       {},
                       "",
                       "Bring the missing file in, or choose another",
                       0,
                       0,
                       {},
                       {}});
    if (report.clippedSamples > 0)
        out.push_back({Severity::Stop,
                       "rig.clipped",
                       subject,
                       "The file clipped",
                       fmt::format("{} samples passed full scale and were cut.", report.clippedSamples),
                       double(report.clippedSamples),
                       0.0,
                       "samples",
                       "Turn the rig's output down, or write 32-bit float",
                       0.0,
                       double(report.clippedSamples) * 1.25,
                       {},
                       {}});
    bool silenced = false;
    for (const StageLevels& stage : report.stages) {
        if (!silenced && stage.inPeak > 0.0f && stage.outPeak < 1e-7f) {
            silenced = true;
            out.push_back({Severity::Fix,
                           "rig.silent_stage",
                           subject,
                           "Nothing comes out of " + stage.node,
                           "Sound goes in and none comes out.",
                           {},
                           {},
                           "",
                           "Look at its level and mix",
                           0,
                           0,
                           {},
                           {}});
        }
    }
    if (rig.diAverageDbfs && diAverageDbfs) {
        const double moved = *diAverageDbfs - *rig.diAverageDbfs;
        const bool near = std::abs(moved) <= 1.0;
        out.push_back(
            {near ? Severity::Note : Severity::Fix, near ? "rig.level_right" : "rig.level_moved", subject,
             near ? "It is hit as it was dialled in"
                  : fmt::format("The DI is {} dB {}", figureText(std::abs(moved)), moved > 0.0 ? "louder" : "softer"),
             fmt::format("This rig was dialled in on a DI that averages {} dBFS; this one averages {}.",
                         figureText(*rig.diAverageDbfs), figureText(*diAverageDbfs)),
             *diAverageDbfs, *rig.diAverageDbfs, "dBFS",
             near ? "" : fmt::format("Put a gain of {} dB first", signedText(-moved)), -48.0, 0.0,
             *rig.diAverageDbfs - 1.0, *rig.diAverageDbfs + 1.0});
    }
    rank(out);
    return out;
}

} // namespace gristle::core
