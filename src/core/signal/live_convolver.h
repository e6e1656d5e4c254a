#pragma once

#include "core/signal/convolver.h"

#include <span>
#include <variant>
#include <vector>

namespace gristle::core {

/// Some taps of an impulse in partitions of one length, in the frequency domain.
class PartedResponse {
public:
    /// @param length  of a part, of which there are as many as the taps take; allocates
    PartedResponse(std::span<const float> taps, std::size_t length);
    std::size_t count() const noexcept { return response_.count; } ///< of parts
    void hear(std::span<const float> window) noexcept;             ///< the last two lengths of the input
    std::size_t chunks() const noexcept { return chunks_; }        ///< of bins
    /// Sums up what all parts give in some chunks, the first of the window heard last, or of the one `ago` (0 or 1)
    /// before.
    void add(std::size_t from, std::size_t to, std::size_t ago = 0) noexcept;
    void finish(std::span<float> out) noexcept; ///< the sum as a length of output; begins another
    void reset() noexcept;
    void takeOver(const PartedResponse& before) noexcept; ///< what another of the same length has heard

private:
    static constexpr std::size_t kChunk = 16; // bins in registers
    /// Of each sixteen bins those of all spectra, so that a sum over many reads on and on: real parts, imaginary ones.
    struct Spectra {
        std::size_t count;
        std::vector<float> numbers;
        Spectra(std::size_t chunks, std::size_t spectra) : count(spectra), numbers(chunks * spectra * 2 * kChunk) {}
        float* at(std::size_t chunk, std::size_t which) noexcept
        {
            return &numbers[(chunk * count + which) * 2 * kChunk];
        }
        const float* at(std::size_t chunk, std::size_t which) const noexcept
        {
            return &numbers[(chunk * count + which) * 2 * kChunk];
        }
        void put(std::size_t which, std::span<const std::complex<float>> bins) noexcept;
    };

    std::size_t length_, chunks_;
    RealFft fft_;
    Spectra response_, heard_, sum_; ///< heard_: a ring of the last windows, one more than there are parts
    std::size_t newest_ = 0;         ///< in heard_
};

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
    // The parts in their order have their transforms in different steps; the steps between share the bins.
    std::size_t forwardStep() const noexcept { return steps_ > 4 ? 1 : 0; }
    std::size_t backStep() const noexcept { return steps_ - 1 - forwardStep(); }
    std::size_t addedBy(std::size_t step) const noexcept; ///< chunks of bins, once a step is done

    std::size_t length_, steps_;
    PartedResponse response_;
    std::size_t step_ = 0;      ///< the small part being filled within its long one
    std::vector<float> window_; ///< the long part before and the one being filled
    std::vector<float> heard_;  ///< the two before the one being filled
    std::vector<float> tail_;   ///< what is given to the one being filled
    std::vector<float> next_;   ///< and to the next, once its last step is done
};

/// Convolves a mono stream with a fixed impulse without any delay: the first 64 taps directly, the next ones in parts
/// of 64, each ready when its time comes. Over 2,048 taps those from 512 on go in parts of 256, over 8,192 those from
/// 2,048 on in parts of 1,024. Any block lengths give the same bits. For playing live; for rendering OverlapSave is
/// cheaper. Source: uniformly partitioned convolution, Kulp 1988; the direct head and longer parts behind as by Gardner
/// 1995. Cost each 64 frames: two transforms of 128, for each 64 near taps the products of 65 bins; of each kind of
/// long part that share of two transforms of twice its length and of as many products for each part.
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
