#pragma once

#include <cstddef>
#include <span>
#include <variant>
#include <vector>

namespace gristle::core {

/// One doubling of the rate by a linear-phase half-band filter (Kaiser), up or down, any block lengths.
/// Every second tap of a half-band filter is zero and the middle one is 1/2, so one branch is a plain delay.
class HalfBand {
public:
    /// @param transition  width of the transition band as a part of the higher rate, centred on a quarter of it
    HalfBand(double attenuationDb, double transition);
    void prepare(std::size_t maxFrames);                                 ///< of the lower rate; allocates
    void up(std::span<const float> in, std::span<float> out) noexcept;   ///< out: twice as long
    void down(std::span<const float> in, std::span<float> out) noexcept; ///< in: twice as long
    std::size_t delay() const noexcept { return branch_.size() - 1; }    ///< in frames of the higher rate
    void reset() noexcept;

private:
    std::vector<float> branch_;  ///< the taps that are not zero, but for the middle one; even count, symmetric
    std::vector<float> history_; ///< upwards: lower-rate input; downwards: the branch that is filtered
    std::vector<float> other_;   ///< downwards: the branch that is only delayed
    std::vector<float> work_;
};

/// One doubling of the rate by any FIR, up or down, any block lengths.
class PolyphaseFir {
public:
    explicit PolyphaseFir(std::span<const float> taps);                  ///< at the higher rate, their sum 1
    void prepare(std::size_t maxFrames);                                 ///< of the lower rate; allocates
    void up(std::span<const float> in, std::span<float> out) noexcept;   ///< out: twice as long
    void down(std::span<const float> in, std::span<float> out) noexcept; ///< in: twice as long
    double delay() const noexcept { return delay_; } ///< in frames of the higher rate, at low frequency
    void reset() noexcept;

private:
    double delay_ = 0.0;
    std::vector<float> even_, odd_; ///< the taps for even and odd samples, reversed
    std::vector<float> evenPast_, oddPast_, work_;
};

/// Raises the rate 2, 4, 8, 16 or 32 times and lowers it again, for nonlinear work in between. Pass band flat to 0.375
/// of the rate (18 kHz at 48 kHz), aliases 100 dB down: what would fold is stopped from half the rate on. Latency of
/// both ways together is a whole number of frames.
class Oversampler {
public:
    /// Linear: all frequencies are late alike, some 58 frames at eight times. Least: as early as the same magnitudes
    /// allow, some 13, the highest later than the others; for playing.
    enum class Phase { Linear, Least };

    /// The factor that brings a rate to 384 kHz or near it: what folds from there does not depend on the base rate.
    static std::size_t factorFor(double rateHz) noexcept { return rateHz < 66150.0 ? 8 : rateHz < 132300.0 ? 4 : 2; }

    /// @param factor  2, 4, 8, 16 or 32
    /// @param inside  samples of the raised rate by which what is done there is late: they count in the latency
    explicit Oversampler(std::size_t factor = 8, Phase phase = Phase::Linear, std::size_t inside = 0);
    std::size_t factor() const noexcept { return std::size_t(1) << (up_.size()); }
    void prepare(std::size_t maxFrames);                             ///< allocates
    std::span<float> up(std::span<const float> in) noexcept;         ///< factor() samples for each, until the next call
    void down(std::span<float> high, std::span<float> out) noexcept; ///< factor() * out.size() samples to out.size()
    std::size_t latency() const noexcept;                            ///< frames of the base rate, up and down
    void reset() noexcept;

private:
    using Band = std::variant<HalfBand, PolyphaseFir>;
    std::size_t delayInHighest() const noexcept;

    std::vector<Band> up_, down_;          ///< from the base rate on
    std::vector<std::vector<float>> work_; ///< at twice the rate, four times ...
    std::size_t inside_;
    std::vector<float> pad_; ///< the delay that makes the latency whole, in the highest rate
    std::vector<float> padWork_;
};

} // namespace gristle::core
