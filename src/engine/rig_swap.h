#pragma once

#include "core/rig/compiled_rig.h"

#include <atomic>
#include <memory>
#include <vector>

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
    void collect();
    void adopt() noexcept;

    std::vector<std::shared_ptr<core::CompiledRig>> alive_; ///< control thread; the last one was set last
    std::atomic<core::CompiledRig*> wanted_{nullptr};
    /// What the audio thread holds on to. A rig stays in its slot for as long as it is played, so that whoever looks at
    /// one slot after the other cannot miss it.
    std::atomic<core::CompiledRig*> using_[2] = {nullptr, nullptr};

    // audio thread
    core::CompiledRig *now_ = nullptr, *before_ = nullptr;
    std::size_t slot_ = 0; ///< of now_
    double fade_ = 1.0, step_;
    std::vector<float> old_[2];
};

} // namespace gristle::engine
