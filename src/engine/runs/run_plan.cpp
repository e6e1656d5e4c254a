#include "engine/runs/run_plan.h"

#include <algorithm>
#include <cmath>

namespace gristle::engine {

namespace {

constexpr double kOpenS = 2.0 * 3600.0; // for so long clicks are made where nobody says how long
constexpr double kWhole = 1e-6;

} // namespace

RunPlan planRun(const core::BarGrid& grid, const RunShape& shape, double rateHz)
{
    RunPlan out;
    out.shape = shape;
    out.rateHz = rateHz;
    const auto frame = [&](double seconds) { return std::int64_t(std::llround(seconds * rateHz)); };
    const double fromS = grid.secondsOfBar(shape.fromBar);
    const double startS = grid.secondsOfBar(shape.fromBar - shape.countInBars);
    const double toS = shape.kind == RunKind::Through ? fromS + kOpenS : grid.secondsOfBar(shape.toBar);
    out.startFrame = frame(startS), out.fromFrame = frame(fromS);
    out.toFrame = shape.kind == RunKind::Through ? out.fromFrame : frame(toS);
    const auto first = grid.beats(fromS, fromS + 10.0);
    out.marginFrames = first.size() > 1 ? frame(first[1].timeS - first[0].timeS) : frame(0.5);
    for (const auto& beat : grid.beats(startS, shape.hasClicks ? toS : fromS))
        out.clicks.push_back({frame(beat.timeS), beat.isFirst});
    return out;
}

TransportPlan RunPlan::transport() const
{
    TransportPlan out;
    out.startFrame = startFrame;
    if (shape.kind == RunKind::Loop) out.loopFrom = fromFrame, out.loopTo = toFrame;
    out.clicks = clicks;
    return out;
}

std::optional<std::int64_t> RunPlan::overAfter(std::int64_t latency) const
{
    if (shape.kind != RunKind::Punch) return std::nullopt;
    return toFrame - startFrame + marginFrames + latency;
}

std::int64_t RunPlan::passOverAfter(std::int64_t pass, std::int64_t latency) const
{
    return fromFrame - startFrame + (pass + 1) * (toFrame - fromFrame) + marginFrames + latency;
}

double RunPlan::atS(std::int64_t recordedAt, std::int64_t latency) const
{
    return double(startFrame - recordedAt - latency) / rateHz;
}

std::optional<core::TakeCut> RunPlan::cut(std::int64_t pass, std::int64_t recordedAt, std::int64_t frames,
                                          std::int64_t latency) const
{
    const std::int64_t length = toFrame - fromFrame;
    // Where the bars that are wanted begin in the recording.
    const std::int64_t begins = recordedAt + fromFrame - startFrame + pass * length + latency;
    core::TakeCut out;
    out.first = std::max<std::int64_t>(0, begins - marginFrames);
    out.frames = frames - out.first;
    if (shape.kind != RunKind::Through) out.frames = std::min(out.frames, begins + length + marginFrames - out.first);
    const double fromS = double(fromFrame) / rateHz;
    out.atS = fromS - double(begins - out.first) / rateHz;
    if (shape.kind == RunKind::Through) {
        if (out.frames <= 0) return std::nullopt;
        if (shape.fromBar > 1.0 + kWhole) out.spanFromS = fromS, out.spanToS = fromS + double(frames - begins) / rateHz;
        return out.spanToS < out.spanFromS ? std::nullopt : std::optional(out);
    }
    out.spanFromS = fromS;
    const std::int64_t played = std::min(length, frames - begins);
    out.spanToS = fromS + double(played) / rateHz;
    const double bars = shape.toBar - shape.fromBar;
    const bool isEnough = shape.kind == RunKind::Punch ? played > 0 : double(played) * bars >= 0.98 * double(length);
    return isEnough && out.frames > 0 ? std::optional(out) : std::nullopt;
}

} // namespace gristle::engine
