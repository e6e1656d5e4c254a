#include "core/advice/gate_advice.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kNoiseCrestDb = 4.0;   // what the mean square of 5 ms of noise and hum goes over its long mean
constexpr double kNoteRoomDb = 3.0;     // the attack of a note is over the reading's peak; so much is kept below it
constexpr std::size_t kAroundHops = 15; // a peak of the reading is the highest within 150 ms to each side

} // namespace

std::optional<GateAdvice> gateAdvice(const ChannelMeasurement& c, double hysteresisDb)
{
    if (!c.noise.floorDbfs || c.vuTrace.empty()) return std::nullopt;
    std::vector<double> peaks;
    const std::size_t hops = std::min(c.vuTrace.size(), c.noise.playing.size());
    for (std::size_t i = 0; i < hops; ++i) {
        if (!c.noise.playing[i] || c.vuTrace[i] <= 0.0f) continue;
        const auto from = c.vuTrace.begin() + long(i - std::min(i, kAroundHops)),
                   to = c.vuTrace.begin() + long(std::min(hops, i + kAroundHops + 1));
        if (std::max_element(from, to) == c.vuTrace.begin() + long(i)) peaks.push_back(powerToDb(double(c.vuTrace[i])));
    }
    if (peaks.empty()) return std::nullopt;
    std::ranges::sort(peaks);
    GateAdvice out{*c.noise.floorDbfs, peaks[peaks.size() / 20], {}};
    // It closes at the threshold less the hysteresis, which the noise has to stay under.
    const double low = out.noiseDbfs + kNoiseCrestDb + hysteresisDb, high = out.softestDbfs - kNoteRoomDb;
    if (low <= high) out.thresholdDbfs = std::round(0.5 * (low + high));
    return out;
}

Finding gateFinding(const GateAdvice& a, double threshold, const std::string& subject)
{
    Finding f;
    f.code = "rig.gate";
    f.subject = subject;
    f.severity = Severity::Note;
    f.measured = threshold, f.unit = "dBFS";
    f.low = std::min({a.noiseDbfs, threshold, a.softestDbfs}) - 6.0;
    f.high = std::max({a.softestDbfs, threshold, a.noiseDbfs}) + 6.0;
    if (!a.thresholdDbfs) {
        f.severity = Severity::Fix;
        f.title = "No gate can tell them apart";
        f.message = fmt::format("The noise at rest is {:.0f} dBFS, the softest note {:.0f}: too near for a gate.",
                                a.noiseDbfs, a.softestDbfs);
        f.remedy = "Capture the DI quieter: turn away from the hum, use the noise-cancelling position";
        return f;
    }
    f.target = *a.thresholdDbfs;
    f.targetLow = a.noiseDbfs + kNoiseCrestDb, f.targetHigh = a.softestDbfs - kNoteRoomDb;
    const bool cuts = threshold > a.softestDbfs - kNoteRoomDb, chatters = threshold < a.noiseDbfs + kNoiseCrestDb;
    if (cuts || chatters) {
        f.severity = Severity::Fix;
        f.title = cuts ? "The gate cuts soft notes" : "The gate stays open on the noise";
        f.message = fmt::format("It opens at {:.0f} dBFS; the noise at rest is {:.0f}, the softest note {:.0f}.",
                                threshold, a.noiseDbfs, a.softestDbfs);
        f.remedy = fmt::format("Set the threshold to {:.0f}", *a.thresholdDbfs);
        return f;
    }
    f.title = "The gate knows notes from noise";
    f.message =
        fmt::format("At {:.0f} dBFS it closes on the noise at {:.0f} and lets the softest note at {:.0f} through.",
                    threshold, a.noiseDbfs, a.softestDbfs);
    return f;
}

} // namespace gristle::core
