#include "engine/rt/rig_swap.h"

#include <algorithm>

namespace gristle::engine {

namespace {

constexpr double kFadeS = 0.02;

} // namespace

RigSwap::RigSwap(std::shared_ptr<core::CompiledRig> rig, double rateHz, std::size_t maxBlock)
    : step_(1.0 / (kFadeS * rateHz))
{
    for (auto& side : old_) side.resize(maxBlock);
    now_ = rig.get();
    rigs_.set(std::move(rig));
    rigs_.take(hold_, now_);
}

RigSwap::~RigSwap() = default;

void RigSwap::set(std::shared_ptr<core::CompiledRig> rig) { rigs_.set(std::move(rig)); }

std::size_t RigSwap::latency() const noexcept { return rigs_.alive().back()->latency(); }
std::size_t RigSwap::outputChannels() const noexcept { return rigs_.alive().back()->outputChannels(); }

/// Takes the wanted rig up where no change is under way.
void RigSwap::adopt() noexcept
{
    if (before_) return;
    core::CompiledRig* const next = rigs_.wanted();
    if (next == now_ || !rigs_.take(1 - hold_, next)) return;
    next->takeOver(*now_);
    before_ = now_;
    now_ = next;
    hold_ = 1 - hold_;
    fade_ = 0.0;
}

void RigSwap::process(core::AudioBlock& block) noexcept
{
    adopt();
    if (!before_) return now_->process(block);
    core::AudioBlock old{{old_[0].data(), old_[1].data()}, 1, block.frames};
    std::copy_n(block.channel[0], block.frames, old_[0].begin());
    before_->process(old);
    now_->process(block);
    if (block.channels < old.channels) std::copy_n(block.channel[0], block.frames, block.channel[1]);
    if (old.channels < block.channels) std::copy_n(old_[0].begin(), block.frames, old_[1].begin());
    block.channels = std::max(block.channels, old.channels);
    for (std::size_t i = 0; i < block.frames; ++i) { // alike, mostly, so the sum of both weights is 1
        fade_ = std::min(1.0, fade_ + step_);
        for (std::size_t c = 0; c < block.channels; ++c) {
            float& x = block.channel[c][i];
            x = old_[c][i] + float(fade_) * (x - old_[c][i]);
        }
    }
    if (fade_ < 1.0) return;
    before_ = nullptr;
    rigs_.release(1 - hold_);
}

} // namespace gristle::engine
