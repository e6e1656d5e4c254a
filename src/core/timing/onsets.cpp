#include "core/timing/onsets.h"

#include "core/timing/onset_clues.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kApartS = 0.045; // a strum is one
constexpr double kLeastChance = 0.4;
// A finger that lifts or a slide's fret is far weaker than what is played: less than a 16th has to be surer.
constexpr double kFaint = -4.0, kLeastChanceFaint = 0.8;
constexpr double kUnderLoudestDb = -42.0; // softer than that is no note but a noise
constexpr double kBehindS = 0.06;

/// Mean square of the 60 ms behind a place.
double powerBehind(std::span<const float> x, double rateHz, double atS)
{
    const auto at = std::min(x.size(), std::size_t(std::max(0.0, atS * rateHz)));
    const auto behind = x.subspan(at, std::min(x.size() - at, std::size_t(kBehindS * rateHz)));
    double sum = 0.0;
    for (const float v : behind) sum += double(v) * double(v);
    return behind.empty() ? 0.0 : sum / double(behind.size());
}

} // namespace

std::vector<Onset> findOnsets(std::span<const float> x, double rateHz)
{
    return onsetsOf(onsetCandidates(x, rateHz), x, rateHz);
}

std::vector<Onset> onsetsOf(std::span<const OnsetCandidate> candidates, std::span<const float> x, double rateHz)
{
    std::vector<Onset> out;
    double loudest = 0.0;
    for (const OnsetCandidate& c : candidates) {
        Onset o{.timeS = c.place.timeS,
                .scrapeS = c.place.scrapeS,
                .chance = chanceOfNote(c.clues),
                .sharpDb = c.place.sharpDb};
        const double power = powerBehind(x, rateHz, o.timeS);
        loudest = std::max(loudest, power);
        if (o.chance < (c.clues.back() < kFaint ? kLeastChanceFaint : kLeastChance)) continue;
        o.levelDbfs = powerToDb(2.0 * power + 1e-20);
        if (out.empty() || o.timeS - out.back().timeS >= kApartS)
            out.push_back(o);
        else if (o.chance > out.back().chance)
            out.back() = o;
    }
    const double least = powerToDb(2.0 * loudest + 1e-20) + kUnderLoudestDb;
    std::erase_if(out, [&](const Onset& o) { return o.levelDbfs < least; });
    return out;
}

double attackSharpDb(std::span<const float> mono, double rateHz, double atS)
{
    return onsetPlace(mono, rateHz, atS).sharpDb;
}

} // namespace gristle::core
