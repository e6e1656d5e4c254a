#include "engine/rig_swap.h"

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
    using_[0].store(now_);
    wanted_.store(now_);
    alive_.push_back(std::move(rig));
}

RigSwap::~RigSwap() = default;

void RigSwap::set(std::shared_ptr<core::CompiledRig> rig)
{
    alive_.push_back(std::move(rig));
    wanted_.store(alive_.back().get());
    collect();
}

void RigSwap::collect()
{
    // Read in this order: the audio thread announces what it takes before it looks at wanted_ again.
    const core::CompiledRig* const keep[3] = {wanted_.load(), using_[0].load(), using_[1].load()};
    std::erase_if(alive_, [&](const auto& r) { return std::ranges::find(keep, r.get()) == std::end(keep); });
}

std::size_t RigSwap::latency() const noexcept { return alive_.back()->latency(); }
std::size_t RigSwap::outputChannels() const noexcept { return alive_.back()->outputChannels(); }

/// Takes the wanted rig up where no change is under way (a hazard pointer; source: Michael 2004).
void RigSwap::adopt() noexcept
{
    if (before_) return;
    core::CompiledRig* const next = wanted_.load();
    if (next == now_) return;
    auto& free = using_[1 - slot_];
    free.store(next);
    if (wanted_.load() != next) return free.store(nullptr); // changed just now: the next block looks again
    next->takeOver(*now_);
    before_ = now_;
    now_ = next;
    slot_ = 1 - slot_;
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
    using_[1 - slot_].store(nullptr);
}

} // namespace gristle::engine
