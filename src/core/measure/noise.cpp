#include "core/measure/noise.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kMostReadS = 30.0;
constexpr double kMostTonal = 0.1;                // a note of a tenth of the power moves the floor by 0.46 dB
constexpr double kRestS = 0.3, kShortRestS = 0.1; // one of less is no rest but a gap between notes
constexpr double kQuietDb = 30.0;                 // under the loud hops

std::size_t countOf(const std::vector<bool>& hops) { return std::size_t(std::ranges::count(hops, true)); }

std::size_t longestRun(const std::vector<double>& powers, const auto& isOne)
{
    std::size_t most = 0, run = 0;
    for (const double p : powers) most = std::max(most, run = isOne(p) ? run + 1 : 0);
    return most;
}

/// Why a recording without a floor has none.
void tellWhy(const std::vector<double>& powers, NoiseResult& out)
{
    const double silentS = HopTrack::kHopS * double(longestRun(powers, [](double p) { return p == 0.0; }));
    if (silentS >= kRestS) {
        out.why = NoRest::Silence;
        return;
    }
    auto sorted = powers;
    std::ranges::sort(sorted);
    const double quiet = sorted.empty() ? 0.0 : sorted[sorted.size() * 19 / 20] * dbToPower(-kQuietDb);
    const double restS = HopTrack::kHopS * double(longestRun(powers, [&](double p) { return p < quiet; }));
    if (restS >= kShortRestS && restS < kRestS) out.why = NoRest::Short, out.longestRestS = restS;
}

} // namespace

bool NoiseResult::isNobodyPlaying() const
{
    return floorDbfs && !playing.empty() && double(countOf(playing)) * HopTrack::kHopS < kRestS;
}

Result<NoiseResult> analyseNoise(const HopTrack& track, const SampleSource& source, Mains mains)
{
    NoiseResult out;
    const auto powers = track.powers();
    auto candidates = findRests(powers);
    std::ranges::stable_sort(candidates, [](const Stretch& a, const Stretch& b) { return a.count > b.count; });
    std::vector<TimedSamples> rests;
    std::vector<Stretch> stretches;
    double readS = 0.0;
    for (Stretch s : candidates) {
        if (readS >= kMostReadS) break;
        s.count = std::min(s.count, static_cast<std::size_t>((kMostReadS - readS) / HopTrack::kHopS));
        if (s.count * HopTrack::kHopS < 0.3) break;
        const std::int64_t start = track.hopStart(s.first);
        auto samples = source(start, track.hopStart(s.first + s.count) - start);
        if (!samples) return samples.error();
        readS += double(samples->size()) / track.rateHz();
        rests.push_back({double(start) / track.rateHz(), std::move(*samples)});
        stretches.push_back(s);
    }
    // The mains series is looked for in all of them first: what it explains is no string.
    const auto byTime = [](std::vector<TimedSamples> r) {
        std::ranges::sort(r, {}, &TimedSamples::startS);
        return r;
    };
    out.hum = findHum(byTime(rests), track.rateHz(), mains);
    std::vector<TimedSamples> kept;
    for (std::size_t i = 0; i < rests.size(); ++i) {
        double tonal = tonalPart(rests[i].samples, track.rateHz(), out.hum);
        if (tonal > kMostTonal && !out.hum)
            tonal = tonalPart(rests[i].samples, track.rateHz(), findHum({rests[i]}, track.rateHz(), mains));
        if (tonal > kMostTonal) continue;
        out.rests.push_back(stretches[i]);
        kept.push_back(std::move(rests[i]));
    }
    if (kept.size() != rests.size()) out.hum = findHum(byTime(std::move(kept)), track.rateHz(), mains);
    std::optional<double> floor;
    double restHops = 0.0;
    if (!out.rests.empty()) {
        double power = 0.0;
        for (const Stretch& s : out.rests) {
            power += track.powerWithoutDc(s.first, s.count) * double(s.count);
            restHops += double(s.count);
        }
        if (power > 0.0) floor = power / restHops;
    }
    out.playing = findPlaying(powers, floor);
    const auto sounding = std::ranges::count_if(powers, [](double p) { return p > 0.0; });
    if (floor && countOf(out.playing) == 0 && restHops < 0.5 * double(sounding)) {
        floor.reset(), out.hum.reset(), out.rests.clear();
        out.playing = findPlaying(powers, floor);
    }
    if (!floor) {
        tellWhy(powers, out);
        return out;
    }
    out.floorDbfs = aes17Dbfs(*floor);
    double playing = 0.0, hops = 0.0;
    for (std::size_t i = 0; i < powers.size(); ++i) {
        if (!out.playing[i]) continue;
        playing += powers[i];
        hops += 1.0;
    }
    if (!out.isNobodyPlaying() && playing / hops > *floor * 2.0) out.snrDb = powerToDb(playing / hops / *floor);
    return out;
}

} // namespace gristle::core
