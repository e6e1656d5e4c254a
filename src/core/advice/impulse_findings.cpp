#include "core/advice/impulse_findings.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

std::vector<Finding> impulseFindings(const ImpulseTold& told, const std::string& name)
{
    constexpr double kLateMs = 400.0, kSilenceS = 0.02;
    std::vector<Finding> out;
    if (told.performedDb) {
        out.push_back(makeFinding(
            Severity::Fix, "impulse.no_arrival", name, "Nothing arrives in it",
            fmt::format("Its highest sample stands {} dB over the rest: it looks like a performance, not a response.",
                        figureText(*told.performedDb)),
            "Choose another file, or capture a response by a sweep"));
        return out;
    }
    if (told.energy90Ms > kLateMs)
        out.push_back(makeFinding(Severity::Note, "impulse.late", name, "Mostly late sound",
                                  fmt::format("Nine tenths of its energy take {} ms: a room more than a loudspeaker.",
                                              figureText(told.energy90Ms, 0)),
                                  "Use it as a reverb, or shorten it"));
    if (told.arrivalS && *told.arrivalS > kSilenceS)
        out.push_back(makeFinding(Severity::Note, "impulse.delay", name, "Silence before it",
                                  fmt::format("It arrives after {} ms: what is heard through it is as late.",
                                              figureText(1000.0 * *told.arrivalS)),
                                  "Trim what is before it"));
    return out;
}

std::vector<Finding> captureFindings(const Result<Captured>& result, const std::string& name)
{
    constexpr double kGoodSnrDb = 40.0, kMuchPercent = 3.0;
    if (!result)
        return {makeFinding(Severity::Fix, "capture.refused", name, "No response in it", result.error().message,
                            result.error().remedy)};
    const Captured& captured = *result;
    std::vector<Finding> out;
    if (captured.snrDb < kGoodSnrDb)
        out.push_back(makeFinding(Severity::Note, "capture.noise", name, "Noise in the response",
                                  fmt::format("The response stands {} dB over the noise.", figureText(captured.snrDb)),
                                  "Play the sweep louder, longer or more often: twice as long gains 3 dB"));
    if (captured.distortionPercent > kMuchPercent)
        out.push_back(makeFinding(
            Severity::Note, "capture.distortion", name, "Something distorts",
            fmt::format(
                "{} % of orders 2 to 5, which stand apart from the response: what it went through was not linear "
                "at that level.",
                figureText(captured.distortionPercent)),
            "Play the sweep more quietly if the linear response alone is wanted"));
    if (captured.isDriftCorrected)
        out.push_back(makeFinding(
            Severity::Note, "capture.drift", name, "Two clocks",
            fmt::format("The recording's clock ran {} parts in a million fast, within {}; this is corrected.",
                        figureText(captured.driftPpm), figureText(captured.driftDoubtPpm)),
            "Play and record over one interface, or give both the same clock"));
    return out;
}

Finding captureLostFinding()
{
    return makeFinding(Severity::Stop, "capture.lost", "sweep", "Samples were lost",
                       "The system lost samples while the sweep was played: the impulses are not whole.",
                       "Raise the buffer, close other programs, sweep again");
}

std::vector<Finding> placementFindings(const CabPlan& plan, std::span<const PlacedFigures> figures)
{
    constexpr double kReserveDb = 3.0, kSpillDb = -9.0;
    std::vector<Finding> out;
    for (std::size_t i = 0; i < std::min(figures.size(), plan.microphones.size()); ++i) {
        const PlacedFigures& f = figures[i];
        const std::string name = nameOf(plan.microphones[i]);
        if (f.soundPressureDb > f.mostSplDb - kReserveDb)
            out.push_back(
                makeFinding(Severity::Fix, "cab.too_loud", name, "Too loud for this microphone",
                            fmt::format("About {} dB SPL reach it at {:g} W; it takes {}.",
                                        figureText(f.soundPressureDb, 0), plan.watts, figureText(f.mostSplDb, 0)),
                            "Move it away, or play more quietly"));
        if (const auto kind = microphoneOf(plan.microphones[i].kind); kind && kind->endangeredByPhantom)
            out.push_back(makeFinding(Severity::Note, "cab.phantom", name, "No phantom power into it",
                                      "A ribbon can be torn by phantom power through a faulty or patched cable.",
                                      "Switch phantom power off at its input before it is plugged in"));
        if (f.spill && f.spill->spillDb > kSpillDb)
            out.push_back(makeFinding(
                Severity::Fix, "cab.spill", name, "It hears the second amplifier",
                fmt::format("{} dB of it against its own: together they can ripple by {} dB. It stands {} times as far "
                            "from the other.",
                            figureText(f.spill->spillDb), figureText(f.spill->rippleDb), figureText(f.spill->ratio, 1)),
                fmt::format("Set the amplifiers {} m apart, or move this microphone closer",
                            figureText(f.spill->neededM, 2))));
    }
    return out;
}

std::vector<Finding> shortenedFindings(double keptFromHz)
{
    if (keptFromHz <= 0.0) return {};
    return {makeFinding(Severity::Note, "impulse.shortened", "length", "The low end is not the same",
                        fmt::format("So short, the response below {} Hz differs by more than 1 dB from the whole.",
                                    figureText(keptFromHz, 0)),
                        "Make it longer, or let the low cut take what is below")};
}

std::vector<Finding> cancelFindings(std::span<const BlendPart> parts,
                                    std::span<const std::vector<ResponsePoint>> responses,
                                    const std::vector<ResponsePoint>& sum, double matchedDb)
{
    constexpr double kFromHz = 70.0, kToHz = 6000.0, kMuchDb = 6.0;
    double worst = 0.0, hz = 0.0;
    for (std::size_t i = 0; i < sum.size() && parts.size() > 1; ++i) {
        double powers = 0.0;
        for (std::size_t p = 0; p < std::min(parts.size(), responses.size()); ++p)
            if (i < responses[p].size()) powers += dbToPower(responses[p][i].db + parts[p].gainDb);
        const double loss = powerToDb(powers) - (sum[i].db - matchedDb);
        if (sum[i].hz > kFromHz && sum[i].hz < kToHz && loss > worst) worst = loss, hz = sum[i].hz;
    }
    if (worst <= kMuchDb) return {};
    return {makeFinding(Severity::Fix, "impulse.cancel", "sum", "They work against each other",
                        fmt::format("At {} Hz the sum is {} dB under what they have by themselves.", figureText(hz, 0),
                                    figureText(worst)),
                        "Bring them together, or invert one")};
}

} // namespace gristle::core
