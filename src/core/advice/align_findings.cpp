#include "core/advice/align_findings.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kHeardLossDb = 0.5; // of the sum, that aligning brings back
constexpr double kLeftDb = 1.0;      // of the sum, that no delay brings back
constexpr double kAgainst = 90.0;    // degrees: together they are less than the louder one
constexpr double kLeastShare = 0.02, kCoherent = 0.5;
constexpr double kEdge = 0.98;

/// "100 to 250 Hz and 4 to 6.3 kHz": neighbouring bands become one stretch.
std::string stretches(const std::vector<AlignedBand>& bands, const std::vector<bool>& chosen)
{
    std::vector<std::string> parts;
    const auto hz = [](double f) {
        return f < 1000.0 ? fmt::format("{:.0f} Hz", f) : fmt::format("{:.1f} kHz", f / 1000.0);
    };
    for (std::size_t i = 0; i < bands.size(); ++i) {
        if (!chosen[i]) continue;
        std::size_t last = i;
        while (last + 1 < bands.size() && chosen[last + 1]) ++last;
        parts.push_back(
            fmt::format("{} to {}", hz(bands[i].hz / std::exp2(1.0 / 6.0)), hz(bands[last].hz * std::exp2(1.0 / 6.0))));
        i = last;
    }
    std::string out;
    for (std::size_t i = 0; i < parts.size(); ++i)
        out += (i == 0 ? "" : i + 1 == parts.size() ? " and " : ", ") + parts[i];
    return out;
}

} // namespace

std::string delayText(double delaySamples, double rateHz)
{
    const double ms = 1000.0 * delaySamples / rateHz;
    if (std::abs(ms) < 0.005) return "together";
    return fmt::format("{} ms {} ({} cm)", figureText(std::abs(ms), 2), ms > 0.0 ? "later" : "earlier",
                       figureText(100.0 * std::abs(metresOf(delaySamples, rateHz)), 1));
}

std::vector<Finding> alignFindings(const AlignedFiles& aligned, double maxMs)
{
    std::vector<Finding> out;
    for (const AlignedFile& file : aligned.others) {
        const Alignment& a = file.alignment;
        const auto add = [&](Severity severity, const char* code, std::string title, std::string message,
                             std::string remedy) {
            out.push_back(makeFinding(severity, code, file.file.filename().string(), std::move(title),
                                      std::move(message), std::move(remedy)));
        };
        const std::string name = file.file.filename().string(), first = aligned.reference.filename().string();
        if (!file.isOneTake()) {
            add(Severity::Note, "align.stranger", "Not the same performance",
                fmt::format("{} and {} do not tell one delay (confidence {}): they may be two performances, or too "
                            "little of one is in the other.",
                            first, name, figureText(a.confidence, 2)),
                "Choose recordings of one performance; two performances are compared under Double");
            continue;
        }
        const double ms = 1000.0 * a.delaySamples / aligned.rateHz;
        if (std::abs(ms) > kEdge * maxMs)
            add(Severity::Fix, "align.edge", "The delay is as long as was looked for",
                fmt::format("{} ms is the end of the range; the true delay may lie beyond.", figureText(ms, 1)),
                fmt::format("Look further: --max-ms {:.0f}", std::min(1000.0, 2.0 * maxMs)));
        const double backDb = a.lossBeforeDb - a.lossAfterDb;
        if (a.isInverted) {
            add(Severity::Stop, "align.inverted", "Inverted",
                fmt::format("{} is inverted against {}: where both play, they work against each other.", name, first),
                "Turn its polarity");
            out.back().measured = a.lossBeforeDb, out.back().target = a.lossAfterDb, out.back().unit = "dB";
            out.back().low = -3.01, out.back().high = 6.0;
        }
        if (!file.isKeptLate && backDb >= kHeardLossDb && std::abs(a.delaySamples) >= 0.5) {
            add(Severity::Fix, "align.late", fmt::format("Arrives {}", ms > 0.0 ? "late" : "early"),
                fmt::format("{} is {}; brought together the sum gains {} dB.", name,
                            delayText(a.delaySamples, aligned.rateHz), figureText(backDb)),
                "Move it, or keep it where it is if the distance is meant");
            out.back().measured = ms, out.back().target = 0.0, out.back().unit = "ms";
            out.back().low = -std::max(2.0, std::abs(ms) * 1.2), out.back().high = -out.back().low;
        }
        std::vector<bool> against;
        for (const AlignedBand& band : a.bands)
            against.push_back(band.share > kLeastShare && band.coherence > kCoherent &&
                              std::abs(band.phaseDegrees) > kAgainst);
        const bool isAgainst = std::ranges::find(against, true) != against.end();
        const double leftDb = a.lossAfterDb - a.leastLossDb;
        if (!file.isKeptLate && (isAgainst || leftDb > kLeftDb)) {
            add(Severity::Note, "align.phase", "No delay mends all of it",
                fmt::format(
                    "{}: their phase differs by frequency{}. This delay is the best for the direct sound; {} dB of "
                    "the sum remain lost.",
                    name, isAgainst ? ", against each other at " + stretches(a.bands, against) : "",
                    figureText(std::max(0.0, leftDb))),
                "Move one microphone, or choose one of the two for those frequencies");
            out.back().measured = leftDb, out.back().target = 0.0, out.back().unit = "dB", out.back().high = 6.0;
        }
        if (out.empty() || out.back().subject != name)
            add(Severity::Note, "align.agrees", "In time and the right way up",
                fmt::format("{} agrees with {}: {}.", name, first, delayText(a.delaySamples, aligned.rateHz)), "");
    }
    rank(out);
    return out;
}

} // namespace gristle::core
