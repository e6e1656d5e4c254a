#include "core/advice/rig_findings.h"

#include "core/advice/file_findings.h"
#include "core/advice/level_transfer.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kLanesFightDb = 1.0, kLanesCancelDb = 6.0; // of one take in all lanes: unrelated lanes lose nothing

} // namespace

Finding bypassedFinding(const std::string& warning, const std::string& subject)
{
    return makeFinding(Severity::Fix, "rig.missing", subject, "A stage is bypassed", warning + ".",
                       "Bring the missing file in, or choose another");
}

std::vector<Finding> rigFindings(const RenderReport& report, const RigDocument& rig, const std::optional<DiStamp>& di,
                                 const std::string& subject)
{
    std::vector<Finding> out;
    for (const auto& warning : report.warnings) out.push_back(bypassedFinding(warning, subject));
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
    if (auto f = truncatedFinding(report.source, subject)) out.push_back(std::move(*f));
    if (auto f = notFiniteFinding(report.notFiniteSamples, subject)) out.push_back(std::move(*f));
    bool silenced = false;
    for (const StageLevels& stage : report.stages) {
        if (stage.ranAway)
            out.push_back({Severity::Stop,
                           "rig.runaway",
                           subject,
                           "The echoes of " + stage.node + " run away",
                           "They grew until they were held.",
                           {},
                           {},
                           "",
                           "Take its feedback under 1",
                           0,
                           0,
                           {},
                           {}});
        if (stage.lanesLossDb && *stage.lanesLossDb > kLanesFightDb && !stage.bypass) {
            out.push_back(makeFinding(*stage.lanesLossDb > kLanesCancelDb ? Severity::Stop : Severity::Fix,
                                      "rig.lanes_cancel", subject, "The lanes work against each other",
                                      fmt::format("Summed they are {} dB weaker than apart; two that agree gain 3 dB.",
                                                  figureText(*stage.lanesLossDb)),
                                      "Turn the polarity of one lane, or move it with a shift until it agrees"));
            Finding& f = out.back();
            f.measured = *stage.lanesLossDb, f.target = 0.0, f.unit = "dB";
            f.low = -3.0, f.high = std::max(6.0, *stage.lanesLossDb * 1.1), f.targetLow = -3.0, f.targetHigh = 0.0;
        }
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
    if (rig.di && di) {
        const LevelTransfer transfer = levelTransfer(*rig.di, *di);
        const double wasDbu = rig.di->averageDbfs + rig.di->calibration.dbuAtFullScale, dbu = wasDbu - transfer.trimDb;
        const bool near = std::abs(transfer.trimDb) <= 1.0;
        out.push_back({near ? Severity::Note : Severity::Fix, near ? "rig.level_right" : "rig.level_moved", subject,
                       near ? "It is hit as it was dialled in"
                            : fmt::format("The DI is {} dB {}", figureText(std::abs(transfer.trimDb)),
                                          transfer.trimDb < 0.0 ? "louder" : "softer"),
                       fmt::format("This rig was dialled in on a DI that averages {} dBu; this one averages {}{}.",
                                   figureText(wasDbu), figureText(dbu),
                                   transfer.assumed ? ", as far as an uncalibrated input can tell" : ""),
                       dbu, wasDbu, "dBu",
                       near ? "" : fmt::format("Put a gain of {} dB first", signedText(transfer.trimDb)), -48.0, 12.0,
                       wasDbu - 1.0, wasDbu + 1.0});
        constexpr double kOtherDb = 3.0;
        if (transfer.pickupDb && transfer.mostPickupDb() >= kOtherDb) {
            const auto at = std::ranges::max_element(*transfer.pickupDb, {}, [](double v) { return std::abs(v); });
            out.push_back(
                {Severity::Note, "rig.pickup_differs", subject, "The DI has another colour",
                 fmt::format("Against the DI that this rig was dialled in on it differs by {} dB at {:.0f} Hz.",
                             figureText(std::abs(*at)), kOctaveHz[std::size_t(at - transfer.pickupDb->begin())]),
                 std::abs(*at), 0.0, "dB", "Match level and pickup first, if it should sound alike", 0.0,
                 LevelTransfer::kMostPickupDb, 0.0, kOtherDb});
        }
    }
    rank(out);
    return out;
}

std::optional<Finding> rigOutputFinding(double peakDbu, double fullScaleDbu, const std::string& subject)
{
    constexpr double kLeftDb = 1.0, kShownDb = 0.05; // less is not seen in the figures
    if (peakDbu <= fullScaleDbu + kShownDb) return std::nullopt;
    const double target = fullScaleDbu - kLeftDb;
    Finding out =
        makeFinding(Severity::Fix, "rig.output_over", subject,
                    fmt::format("Turn the output down {} dB", figureText(peakDbu - target)),
                    fmt::format("Its peaks reach {} dBu and full scale is {}: in a file of whole numbers they are cut.",
                                signedText(peakDbu), signedText(fullScaleDbu)),
                    "Turn the rig's output down; what you hear is matched in loudness all the same");
    out.measured = peakDbu, out.target = target, out.unit = "dBu";
    out.low = fullScaleDbu - 24.0, out.high = std::max(peakDbu, fullScaleDbu) + 3.0;
    out.targetLow = out.low, out.targetHigh = target;
    return out;
}

std::optional<Finding> rigNoiseFinding(const std::vector<Rung>& rungs, const std::string& subject)
{
    constexpr double kEnoughDb = 40.0, kToldDb = 3.0, kHighestDb = 90.0;
    if (rungs.empty() || !std::ranges::all_of(rungs, [](const Rung& r) { return r.restDbu.has_value(); }))
        return std::nullopt;
    // Where noise grows most over the signal: the place for a gate, or for less gain.
    const auto apartAt = [](const Rung& r) { return r.playingDbu - *r.restDbu; };
    double most = 0.0;
    std::size_t where = 0;
    for (std::size_t i = 1; i < rungs.size(); ++i)
        if (const double lost = apartAt(rungs[i - 1]) - apartAt(rungs[i]); lost > most) most = lost, where = i;
    const double apart = apartAt(rungs.back());
    const bool isNear = apart < kEnoughDb;
    return Finding{isNear ? Severity::Fix : Severity::Note,
                   "rig.noise",
                   subject,
                   isNear ? "Noise comes close" : "Noise stays behind",
                   fmt::format("At the output the noise lies {} dB under the playing{}.", figureText(apart, 0),
                               most > kToldDb
                                   ? fmt::format("; {} takes {} dB of it", rungs[where].name, figureText(most, 0))
                                   : ""),
                   apart,
                   kEnoughDb,
                   "dB",
                   isNear ? "Take drive back, or capture the DI quieter" : "",
                   0.0,
                   kHighestDb,
                   kEnoughDb,
                   kHighestDb};
}

Finding startingPointFinding(const StartingPoint& point)
{
    Finding out;
    out.code = "rig.start";
    out.severity = Severity::Note;
    out.title = std::string("Started from: ") + point.title;
    std::string controls;
    for (const auto& c : point.controls)
        controls += fmt::format("{}{} of {} ({})", controls.empty() ? "" : "; ", c.key, c.stage, c.does);
    out.message = fmt::format("Listen for {}. What matters: {}.", point.listen, controls);
    return out;
}

} // namespace gristle::core
