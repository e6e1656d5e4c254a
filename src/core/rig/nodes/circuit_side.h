#pragma once

#include "core/rig/circuit/circuit_solver.h"
#include "core/signal/oversampler.h"

#include <memory>
#include <span>
#include <vector>

namespace gristle::core {

/// One channel's amplifier: its circuit solved at a raised rate.
class CircuitSide {
public:
    /// @param sections  see CircuitForm::ofSections
    /// @param maxBlock  frames; where long ones are to be expected, room is kept to play them in stretches
    CircuitSide(std::span<const Netlist> sections, double rateHz, std::size_t factor, Oversampler::Phase phase,
                std::size_t maxBlock);
    ~CircuitSide();
    CircuitSide(CircuitSide&&) noexcept;
    CircuitSide& operator=(CircuitSide&&) noexcept;

    /// Volts, in place. A block of some seconds is cut into stretches that are played side by side on two cores, each
    /// from a run up into it that lasts until the circuit has forgotten where it began. Where it has not, as what both
    /// stretches make of the last part of a run up shows, the stretch is played again from the end of the one before.
    /// The result is within -120 dB of that in one piece, and the same for the same blocks on any number of cores.
    void process(std::span<float> x, double inGain, float outGain) noexcept;
    /// The same in steps that threads can share, see NodeProcessor::beginParts: half of the stretches are a part.
    /// @return where they end; nothing where the block is too short for that
    std::vector<std::size_t> beginParts(std::span<float> x);
    void takeIn(std::size_t at, std::size_t frames) noexcept;
    void playPart(std::size_t part, double inGain, float outGain) noexcept;
    void handOut(std::size_t part, double inGain, float outGain) noexcept;
    void takeOver(const CircuitSide& before) noexcept;
    void reset() noexcept;
    std::size_t latency() const noexcept { return state_.over.latency(); }
    std::size_t runUp() const noexcept { return runUp_; }       ///< frames of a stretch that are not heard
    std::size_t playedAgain() const noexcept { return again_; } ///< stretches, since the last reset

private:
    struct State {
        Oversampler over;
        CircuitSolver circuit;
        void process(std::span<float> x, double inGain, float outGain) noexcept;
    };
    struct LongBlock;
    std::size_t stretchOf(std::size_t frames) const noexcept; ///< 0: in one piece

    State state_;
    std::size_t runUp_ = 0, compared_ = 0, again_ = 0;
    std::vector<float> input_; ///< of a long block
    std::unique_ptr<LongBlock> long_;
};

} // namespace gristle::core
