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

/// The rate raised or lowered some times by any FIR, any block lengths.
class PolyphaseFir {
public:
    explicit PolyphaseFir(std::span<const float> taps, std::size_t times = 2); ///< at the higher rate, their sum 1
    void prepare(std::size_t maxFrames);                                       ///< of the lower rate; allocates
    void up(std::span<const float> in, std::span<float> out) noexcept;         ///< out: so many times as long
    void down(std::span<const float> in, std::span<float> out) noexcept;       ///< in: so many times as long
    double delay() const noexcept { return delay_; } ///< in frames of the higher rate, at low frequency
    void reset() noexcept;

private:
    struct Phase { ///< every so manieth tap, reversed, and what they take
        std::vector<float> taps, past;
    };
    double delay_ = 0.0;
    std::vector<Phase> phases_;
    std::vector<float> work_;
};

/// Raises the rate 2, 4, 7, 8, 14, 16, 32 or 64 times and lowers it again, for nonlinear work in between. Pass band
/// flat to 0.375 of the rate (18 kHz at 48 kHz), aliases 100 dB down: what would fold is stopped from half the rate on.
/// Latency of both ways together is a whole number of frames.
class Oversampler {
public:
    /// Linear: all frequencies are late alike, some 58 frames at eight times. Least: as early as the same magnitudes
    /// allow, some 13, the highest later than the others; for playing.
    enum class Phase { Linear, Least };

    /// The factor that brings a rate to 384 kHz or near it: what folds from there does not depend on the base rate.
    static std::size_t factorFor(double rateHz) noexcept { return rateHz < 66150.0 ? 8 : rateHz < 132300.0 ? 4 : 2; }

    /// The same, or 7 where that is enough for a rate of `leastHz`: for what costs by the sample.
    static std::size_t factorFor(double rateHz, double leastHz) noexcept
    {
        return 7.0 * rateHz >= leastHz && 4.0 * rateHz < leastHz ? 7 : factorFor(rateHz);
    }

    /// @param factor  2, 4, 7, 8, 14, 16, 32 or 64
    /// @param inside  samples of the raised rate by which what is done there is late: they count in the latency
    explicit Oversampler(std::size_t factor = 8, Phase phase = Phase::Linear, std::size_t inside = 0);
    std::size_t factor() const noexcept { return factor_; }
    void prepare(std::size_t maxFrames);                             ///< allocates
    std::span<float> up(std::span<const float> in) noexcept;         ///< factor() samples for each, until the next call
    void down(std::span<float> high, std::span<float> out) noexcept; ///< factor() * out.size() samples to out.size()
    std::size_t latency() const noexcept;                            ///< frames of the base rate, up and down
    void reset() noexcept;

private:
    using Band = std::variant<HalfBand, PolyphaseFir>;
    std::size_t delayInHighest() const noexcept;

    std::size_t factor_, inside_;
    std::vector<Band> up_, down_;          ///< from the base rate on
    std::vector<std::size_t> times_;       ///< by which each raises
    std::vector<std::vector<float>> work_; ///< behind each
    std::vector<float> pad_;               ///< the delay that makes the latency whole, in the highest rate
    std::vector<float> padWork_;
};

} // namespace gristle::core
