#pragma once

#include "core/rig/node.h"
#include "core/signal/oversampler.h"

#include <algorithm>
#include <cmath>
#include <span>

namespace gristle::core {

/// A node that works at a raised rate, each channel by a Work of its own, which has
/// prepare(rateHz, maxFrames), reset() and process(span), in place, and kTimes, how far 48 kHz and the like are raised
/// where nothing else is said, and kDelay, samples of that rate. What a Work remembers is over in milliseconds, so a
/// changed one starts anew.
template<typename Work> class Raised final : public NodeProcessor {
public:
    Raised(Work work, double tailS, std::size_t times) : work_(std::move(work)), tailS_(tailS), times_(times) {}

    void prepare(const PrepareSpec& spec) override
    {
        const std::size_t factor =
            std::max<std::size_t>(2, times_ * Oversampler::factorFor(spec.rateHz) / Oversampler::factorFor(48000.0));
        sides_.clear();
        for (std::size_t c = 0; c < spec.channels; ++c) {
            Side& side = sides_.emplace_back(
                Side{Oversampler(factor, spec.phase(), std::size_t(std::lround(Work::kDelay))), work_});
            side.over.prepare(kChunk);
            side.work.prepare(spec.rateHz * double(factor), kChunk * factor);
        }
        reset();
    }
    void reset() noexcept override
    {
        for (Side& side : sides_) {
            side.over.reset();
            side.work.reset();
        }
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Raised&>(other).sides_;
        for (std::size_t c = 0; c < std::min(sides_.size(), before.size()); ++c)
            if (sides_[c].over.factor() == before[c].over.factor()) sides_[c].over = before[c].over;
    }
    std::size_t latency() const noexcept override { return sides_.empty() ? 0 : sides_[0].over.latency(); }
    double tailSeconds() const noexcept override { return tailS_; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t at = 0; at < block.frames; at += kChunk) {
                const std::span<float> x(block.channel[c] + at, std::min(kChunk, block.frames - at));
                Side& side = sides_[c];
                const auto high = side.over.up(x);
                side.work.process(high);
                side.over.down(high, x);
            }
    }

private:
    static constexpr std::size_t kChunk = 128; // base frames at a time: the raised work stays in the first cache
    struct Side {
        Oversampler over;
        Work work;
    };
    Work work_;
    double tailS_;
    std::size_t times_;
    std::vector<Side> sides_;
};

} // namespace gristle::core
