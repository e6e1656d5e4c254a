#pragma once

#include "core/session/recorded_take.h"
#include "core/units/bar_grid.h"
#include "engine/rt/take_transport.h"

namespace gristle::engine {

/// How a take is recorded. Through: from a bar until it is stopped. Loop: some bars over and over, a take each time.
/// Punch: some bars once, with what comes before them heard.
enum class RunKind { Through, Loop, Punch };

struct RunShape {
    RunKind kind = RunKind::Through;
    int countInBars = 0; ///< before fromBar: counted in, and of a song's middle heard
    double fromBar = 1.0;
    double toBar = 5.0;     ///< not in it; of no meaning to Through
    bool hasClicks = false; ///< while it is recorded; the bars before have them always
};

/// A run in frames of the song.
struct RunPlan {
    RunShape shape;
    double rateHz = 48000.0;
    std::int64_t startFrame = 0, fromFrame = 0, toFrame = 0; ///< to: equal to from where it is open
    std::int64_t marginFrames = 0;                           ///< a beat, that is kept on either side
    std::vector<TransportPlan::Click> clicks;

    TransportPlan transport() const; ///< without layers and follower
    /// After so many frames of the run it has all that is wanted; none where it is open.
    std::optional<std::int64_t> overAfter(std::int64_t latency) const;
    /// After so many frames of the run a pass of the loop, from 0, is there with its margin.
    std::int64_t passOverAfter(std::int64_t pass, std::int64_t latency) const;
    /// The stretch of the recording that is pass `pass`; of Through and Punch there is one. None where too little of it
    /// is there: less than a bar of a loop, nothing of a punch.
    /// @param recordedAt  frame of the recording that came in with the run's first
    /// @param frames      of the recording
    /// @param latency     from what is played to what comes in for it, frames
    std::optional<core::TakeCut> cut(std::int64_t pass, std::int64_t recordedAt, std::int64_t frames,
                                     std::int64_t latency) const;
    double atS(std::int64_t recordedAt, std::int64_t latency) const; ///< of the recording's first frame
};
RunPlan planRun(const core::BarGrid& grid, const RunShape& shape, double rateHz);

} // namespace gristle::engine
