#pragma once

#include "core/rig/rig_document.h"

#include <cmath>
#include <memory>

namespace gristle::core {

/// Level before and after a stage, in volts, of the louder channel, over the frames that measureOver() chose.
struct StageLevels {
    std::string node;
    bool bypass = false;
    double inSquares = 0.0, outSquares = 0.0; ///< sums of squares
    float inPeak = 0.0f, outPeak = 0.0f;
    std::int64_t frames = 0;
    std::optional<double> lanesLossDb{}; ///< of lanes that are summed: their power apart over that of the sum
    bool ranAway = false;                ///< its feedback, or that of a stage within, was held
    double inRmsV() const noexcept { return frames > 0 ? std::sqrt(inSquares / double(frames)) : 0.0; }
    double outRmsV() const noexcept { return frames > 0 ? std::sqrt(outSquares / double(frames)) : 0.0; }
};

struct CompileOptions {
    NodeContext context;
    std::size_t maxBlock = 4096;  ///< frames
    std::size_t longBlock = 0;    ///< instead of maxBlock, where a stage is quicker with long blocks
    bool allowMissing = false;    ///< a node that cannot be made (missing impulse) is bypassed and named in warnings()
    bool live = false;            ///< for playing: nodes avoid delay
    Effort effort = Effort::Full; ///< Playing where it is live
    std::size_t channels = 1;     ///< that come in: two for the later half of a rig
};

/// A rig made ready for one rate. Lanes are latency-compensated against each other. One thread at a time.
class CompiledRig {
public:
    /// @error what the nodes' files give, unless missing ones are allowed
    static Result<CompiledRig> compile(const RigDocument& rig, const CompileOptions& options);
    CompiledRig(CompiledRig&&) noexcept;
    CompiledRig& operator=(CompiledRig&&) noexcept;
    ~CompiledRig();

    /// The channels of CompileOptions in, one or two out, volts; at most maxBlock() frames. Its `di` is what nodes
    /// listen to; where it is null, what comes in. Where nobody plays, long blocks are worked on by two cores, with the
    /// same result.
    void process(AudioBlock& block) noexcept;
    void reset() noexcept;
    /// Takes up what stages of another rig remember, those of the same types in the same order; both are compiled live
    /// for the same rate. Audio thread: allocates nothing. Cost: a copy of echoes and tails, some 0.1 ms for seconds.
    void takeOver(const CompiledRig& before) noexcept;
    /// Which input frames the levels in stages() are taken over; each stage looks at them when they reach it.
    void measureOver(std::int64_t firstFrame, std::int64_t frames) noexcept;
    std::size_t maxBlock() const noexcept;
    std::size_t outputChannels() const noexcept;
    std::size_t latency() const noexcept;                    ///< frames
    double tailSeconds() const noexcept;                     ///< at most 20
    const std::vector<StageLevels>& stages() const noexcept; ///< of the outermost chain, over all that was processed
    const std::vector<std::string>& warnings() const noexcept;

    static constexpr double kLongestTailS = 20.0;

private:
    struct State;
    explicit CompiledRig(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

} // namespace gristle::core
