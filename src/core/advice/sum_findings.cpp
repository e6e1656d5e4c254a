#include "core/advice/sum_findings.h"

#include "core/advice/align_findings.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kSamePerformance = 0.5;              // confidence
constexpr double kBelowDb = 40.0, kCoherent = 0.5;    // of a band that counts: under the strongest
constexpr double kLeastMs = 0.05, kHeardLossDb = 1.0; // of a delay, and of what it takes from one band
constexpr double kOnTheWholeDb = 0.3;                 // and from all, in power or on the mean of the bands
constexpr double kAgainst = 80.0;                     // degrees: of two alike 2.3 dB are gone

/// The bands that can be heard and in which the one explains the other.
std::vector<AlignedBand> countedBands(const Alignment& a)
{
    double most = 0.0;
    for (const AlignedBand& b : a.bands) most = std::max(most, b.share);
    std::vector<AlignedBand> out;
    for (const AlignedBand& b : a.bands)
        if (b.share > dbToPower(-kBelowDb) * most && b.coherence > kCoherent) out.push_back(b);
    return out;
}

std::string againstApart(double lossDb)
{
    return fmt::format("{} dB {} than apart", figureText(std::abs(lossDb)), lossDb > 0.0 ? "weaker" : "stronger");
}

/// What a delay or polarity takes from bands, dB.
struct Taken {
    double mean = 0.0, most = 0.0, hz = 0.0;
};

Taken takenFrom(const std::vector<AlignedBand>& bands)
{
    Taken out;
    double heard = 0.0;
    for (const AlignedBand& b : bands) {
        const double db = b.lossBeforeDb - b.lossAfterDb;
        out.mean += db / double(bands.size());
        if (db >= kHeardLossDb && db * std::sqrt(b.share) > heard) // where most of it is heard
            heard = db * std::sqrt(b.share), out.most = db, out.hz = b.hz;
    }
    return out;
}

} // namespace

std::vector<Finding> meetingFindings(const std::vector<std::string>& names, const SumLoss& sum, double rateHz)
{
    std::vector<Finding> out;
    for (std::size_t i = 0; i < sum.pairs.size(); ++i) {
        const Alignment& a = sum.pairs[i];
        if (a.confidence < kSamePerformance) continue;
        const std::string &first = names[0], &name = names[i + 1];
        const double ms = 1e3 * a.delaySamples / rateHz;
        const auto add = [&](Severity severity, const char* code, std::string title, std::string message,
                             std::string remedy, double measured, double target, const char* unit) {
            out.push_back(makeFinding(severity, code, name, std::move(title), std::move(message), std::move(remedy)));
            out.back().measured = measured, out.back().target = target, out.back().unit = unit;
        };
        if (a.isInverted)
            add(Severity::Stop, "sum.inverted", "Inverted against " + first,
                fmt::format(
                    "{} and {} are one performance and work against each other: together they are {}; the right "
                    "way up {}.",
                    first, name, againstApart(a.lossBeforeDb), againstApart(a.lossAfterDb)),
                "Invert its polarity", a.lossBeforeDb, a.lossAfterDb, "dB");
        const auto bands = countedBands(a);
        const Taken taken = takenFrom(bands);
        if (std::abs(ms) >= kLeastMs && taken.most >= kHeardLossDb &&
            std::max(taken.mean, a.lossBeforeDb - a.lossAfterDb) >= kOnTheWholeDb)
            add(Severity::Fix, "sum.late",
                fmt::format("Arrives {} ms {}", figureText(std::abs(ms), 2), ms > 0.0 ? "later" : "earlier"),
                fmt::format("{} is {} than {}: about {:.0f} Hz that takes {} dB from the sum.", name,
                            delayText(a.delaySamples, rateHz), first, taken.hz, figureText(taken.most)),
                fmt::format("Move it {} ms {}, or keep it there if the colour is meant", figureText(std::abs(ms), 2),
                            ms > 0.0 ? "earlier" : "later"),
                ms, 0.0, "ms");
        double worst = 0.0, hz = 0.0;
        for (const AlignedBand& b : bands)
            if (std::abs(b.phaseDegrees) > std::max(kAgainst, worst)) worst = std::abs(b.phaseDegrees), hz = b.hz;
        if (hz > 0.0)
            add(Severity::Fix, "sum.phase", fmt::format("Against each other about {:.0f} Hz", hz),
                fmt::format(
                    "The phase of {} against {} differs by {:.0f}\u00b0 there once both are in time: something shapes "
                    "one of the two alone.",
                    name, first, worst),
                "Shape the sum instead of one of them, or choose one of the two for those frequencies", worst, 0.0,
                "\u00b0");
    }
    rank(out);
    return out;
}

} // namespace gristle::core
