#include "engine/runs/sweep_run.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::engine {

using namespace core;

Result<SweepRun> runSweep(AudioDevice& device, const SweepPlan& plan, const Progress& progress)
{
    SweepSettings settings = plan.sweep;
    settings.rateHz = int(std::lround(device.rateHz()));
    auto once = sweep(settings);
    if (!once) return once.error();
    float peak = 0.0f;
    for (const float x : *once) peak = std::max(peak, std::abs(x));
    const double gain = dbToAmplitude(plan.levelDbfs) / double(peak);
    const auto pause = std::size_t(plan.pauseS * device.rateHz());
    ProbeWish wish;
    for (std::size_t i = 0; i < plan.repeats; ++i) {
        for (const float x : *once) wish.signal.push_back(float(gain * double(x)));
        wish.signal.resize(wish.signal.size() + pause);
    }
    wish.side = plan.side;
    wish.inputs = plan.inputs;
    wish.listenFrames = wish.signal.size() + std::size_t((plan.lengthS + 0.1) * device.rateHz());
    constexpr double kPlaying = 0.8; // of the progress
    const auto take = playAndListen(device, wish, {progress.stop, [&](double part) { progress.at(kPlaying * part); }});
    if (!take) return take.error();
    SweepRun out;
    out.isWhole = take->isWhole;
    out.levelDbfs = plan.levelDbfs;
    for (const auto& heard : take->heard) {
        float most = 0.0f;
        for (const float x : heard) most = std::max(most, std::abs(x));
        out.peakDbfs.push_back(amplitudeToDb(double(most)));
    }
    // The sweep as it was played, so that the impulses have the path's gain.
    for (float& x : *once) x = float(gain * double(x));
    CaptureOptions options;
    options.lengthS = plan.lengthS;
    options.repeats = plan.repeats;
    options.periodS = double(once->size() + pause) / device.rateHz();
    auto set = captureSet(*once, take->heard, settings.rateHz, options);
    if (!set) return set.error();
    out.set = std::move(*set);
    progress.at(1.0);
    return out;
}

} // namespace gristle::engine
