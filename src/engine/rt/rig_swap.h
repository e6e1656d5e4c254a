#pragma once

#include "core/rig/compiled_rig.h"
#include "engine/rt/hazard_slot.h"

namespace gristle::engine {

/// A rig that plays and may be changed while it does: the new one takes up what the old one remembers, and over 20 ms
/// the sound goes from one to the other. Control thread: set(). Audio thread: process().
class RigSwap {
public:
    /// @param maxBlock  frames, that process() is given at most, and the rigs were compiled for
    RigSwap(std::shared_ptr<core::CompiledRig> rig, double rateHz, std::size_t maxBlock);
    ~RigSwap();

    /// Compiled live, for the same rate and block. Heard as soon as a change before it is through.
    void set(std::shared_ptr<core::CompiledRig> rig);
    std::size_t latency() const noexcept; ///< frames, of the rig that was set last
    std::size_t outputChannels() const noexcept;

    /// Mono in, one or two channels out, volts.
    void process(core::AudioBlock& block) noexcept;

private:
    void adopt() noexcept;

    HazardSlot<core::CompiledRig, 2> rigs_;

    // audio thread
    core::CompiledRig *now_ = nullptr, *before_ = nullptr;
    std::size_t hold_ = 0; ///< of now_
    double fade_ = 1.0, step_;
    std::vector<float> old_[2];
};

} // namespace gristle::engine
