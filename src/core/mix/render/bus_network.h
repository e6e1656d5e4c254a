#pragma once

#include "core/rig/compiled_rig.h"
#include "core/units/calibration.h"
#include "core/units/octaves.h"

#include <array>
#include <limits>

namespace gristle::core {

/// The sum of all, in the place of the number of a bus.
constexpr std::size_t kIntoSum = std::numeric_limits<std::size_t>::max();

struct MixSend {
    std::size_t to = kIntoSum;
    double gainDb = 0.0;
    bool operator==(const MixSend&) const = default;
};

/// Where signals meet: a stereo sum with a rig and a gain behind it. Its sends are taken behind both.
struct MixBus {
    std::string name;
    RigDocument rig; ///< an empty chain: none
    NodeContext context;
    Calibration scale; ///< volts of full scale, before and after the rig
    bool allowMissing = false;
    double gainDb = 0.0;
    std::size_t into = kIntoSum;
    std::vector<MixSend> sends{};
    bool isHeard = true; ///< but for its sends
    bool operator==(const MixBus&) const = default;
};

/// What meets at a bus, or at the sum of all.
struct JoinFigures {
    std::string name;
    double lossDb = 0.0; ///< power of what comes in, apart, over that of its sum; alike -3.01, unrelated 0, at most 100
    Octaves octaveLossDb{};
    std::size_t count = 0; ///< that come in and sound
};

/// Buses of a mix at work, block by block: all in double but for the rigs. What arrives at a join by ways of unlike
/// latency is brought together, so that the output is late by latency() as a whole. One thread at a time.
class BusNetwork {
public:
    static constexpr std::size_t kBlock = 8192; ///< frames, always
    using Sides = std::array<std::vector<double>, 2>;

    /// @param sum  behind all; its `into` and sends do not count @error as CompiledRig; Usage where a bus feeds itself
    static Result<BusNetwork> make(const std::vector<MixBus>& buses, const MixBus& sum, int rateHz, bool isMeasured);
    BusNetwork(BusNetwork&&) noexcept;
    BusNetwork& operator=(BusNetwork&&) noexcept;
    ~BusNetwork();

    std::size_t latency() const noexcept;
    double tailSeconds() const noexcept; ///< of the longest way
    const std::vector<std::string>& warnings() const noexcept;

    /// Where a signal of this block is to be added.
    Sides& input(std::size_t bus) noexcept;
    /// All that was added, through the buses; the inputs are empty again.
    const Sides& run();
    /// What layers brought to a join by themselves: sums of squares, in all and by octave, and how many they were.
    struct Came {
        double squares = 0.0;
        Octaves octaves{};
        std::size_t count = 0;
    };
    /// @param came  of every join, buses first, the sum last
    std::vector<JoinFigures> joins(std::vector<Came> came) const;

private:
    struct State;
    explicit BusNetwork(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

} // namespace gristle::core
