#pragma once

#include "core/signal/convolver.h"

#include <span>
#include <variant>
#include <vector>

namespace gristle::core {

/// Convolves a mono stream with a fixed impulse without any delay: the first taps directly, the rest in the frequency
/// domain in partitions of one length, each ready when its time comes. Any block lengths give the same output within
/// rounding. For playing live; for rendering OverlapSave is cheaper.
/// Source: uniformly partitioned convolution, Kulp 1988; the direct head as by Gardner 1995. Cost each 64 frames: two
/// transforms of 128 and taps / 64 products of 65 bins.
class LiveConvolver {
public:
    explicit LiveConvolver(std::span<const float> impulse); ///< allocates; an empty impulse gives silence
    void process(std::span<float> mono) noexcept;           ///< in place
    void reset() noexcept;
    void takeOver(const LiveConvolver& before) noexcept; ///< what another one has heard, whatever its impulse

private:
    static constexpr std::size_t kPart = 64;
    static constexpr std::size_t kBins = kPart + 1;
    struct Spectra { ///< real and imaginary parts apart, so that products vectorise
        std::vector<float> re, im;
        void resize(std::size_t parts) { re.assign(parts * kBins, 0.0f), im.assign(parts * kBins, 0.0f); }
        void put(std::size_t part, std::span<const std::complex<float>> bins) noexcept;
    };
    void finishPart() noexcept;
    void makeTail() noexcept;

    RealFft fft_;
    std::vector<float> head_;    ///< kPart taps
    std::size_t parts_ = 0;      ///< after the head
    Spectra response_, heard_;   ///< heard_: a ring of the last parts_ inputs
    std::size_t newest_ = 0;     ///< in heard_
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
