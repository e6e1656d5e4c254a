#pragma once

#include "core/signal/convolver.h"
#include "core/signal/parted_response.h"

#include <span>
#include <variant>
#include <vector>

namespace gristle::core {

/// What some later taps give, in long parts: once a part of the input is whole, there is another one's time until its
/// output is wanted, and the work is spread over it. Goes on by steps of small parts.
class LongParts {
public:
    static constexpr std::size_t kSmall = 64;
    /// @param impulse  its taps from twice `length` on count; allocates
    LongParts(std::span<const float> impulse, std::size_t length);
    void hear(std::span<const float> small) noexcept;  ///< one step
    void addTo(std::span<float> small) const noexcept; ///< what is given to the small part that comes next
    void reset() noexcept;
    void takeOver(const LongParts& before) noexcept; ///< what another of the same length has heard

private:
    // The first step of four or the first two of more transform, as many of the last ones transform back; those
    // between share the bins.
    std::size_t firstAdd() const noexcept { return steps_ > 4 ? 2 : 1; }
    std::size_t endAdd() const noexcept { return steps_ - firstAdd(); }
    std::size_t addedBy(std::size_t step) const noexcept; ///< chunks of bins, once a step is done
    void split() noexcept;

    std::size_t length_, steps_;
    PartedResponse response_;
    std::size_t step_ = 0;        ///< the small part being filled within its long one
    std::size_t filling_ = 0;     ///< of parts_
    std::vector<float> parts_[3]; ///< of the input: the one being filled and the two before, which are being heard
    std::vector<float> tail_;     ///< what is given to the one being filled
    std::vector<float> next_;     ///< and to the next, once its last step is done
};

/// Convolves a mono stream with a fixed impulse without any delay: the first 64 taps directly, the next ones in parts
/// of 64, each ready when its time comes. Over 2,048 taps those from 512 on go in parts of 256, over 4,096 those from
/// 2,048 on in parts of 1,024. Any block lengths give the same bits, and so does every machine. For playing live; for
/// rendering OverlapSave is cheaper. Source: uniformly partitioned convolution, Kulp 1988; the direct head and longer
/// parts behind as by Gardner 1995. Cost each 64 frames: two transforms to 64 bins, for each 64 near taps their
/// products; of each kind of long part that share of two transforms of its length and of as many products a part.
class LiveConvolver {
public:
    explicit LiveConvolver(std::span<const float> impulse); ///< allocates; an empty impulse gives silence
    void process(std::span<float> mono) noexcept;           ///< in place
    void reset() noexcept;
    void takeOver(const LiveConvolver& before) noexcept; ///< what another one has heard, as far as both remember

private:
    static constexpr std::size_t kPart = LongParts::kSmall;
    void finishPart() noexcept;
    void makeTail() noexcept;

    std::vector<float> head_; ///< kPart taps
    PartedResponse near_;
    std::vector<LongParts> far_; ///< none, or one for each length in turn
    std::vector<float> history_; ///< the part before and the one being filled
    std::vector<float> tail_;    ///< what the parts give to the one being filled
    std::size_t filled_ = 0;
};

/// A convolution for rendering (cheap, late by latency()) or for playing live (no delay).
class Convolution {
public:
    Convolution(std::span<const float> impulse, bool live)
    {
        if (live)
            way_.emplace<LiveConvolver>(impulse);
        else
            way_.emplace<OverlapSave>(impulse);
    }
    std::size_t latency() const noexcept
    {
        const auto* late = std::get_if<OverlapSave>(&way_);
        return late ? late->latency() : 0;
    }
    void takeOver(const Convolution& before) noexcept ///< of playing live
    {
        auto* own = std::get_if<LiveConvolver>(&way_);
        const auto* other = std::get_if<LiveConvolver>(&before.way_);
        if (own && other) own->takeOver(*other);
    }
    void process(std::span<float> mono) noexcept
    {
        std::visit(
            [&](auto& way) {
                if constexpr (!std::is_same_v<decltype(way), std::monostate&>) way.process(mono);
            },
            way_);
    }
    void reset() noexcept
    {
        std::visit(
            [](auto& way) {
                if constexpr (!std::is_same_v<decltype(way), std::monostate&>) way.reset();
            },
            way_);
    }

private:
    std::variant<std::monostate, OverlapSave, LiveConvolver> way_;
};

} // namespace gristle::core
