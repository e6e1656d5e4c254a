#pragma once

#include <span>

namespace gristle::core {

/// Coefficients of a second-order section, a0 = 1: y = b0 x + b1 x' + b2 x'' - a1 y' - a2 y''.
struct BiquadCoefficients {
    double b0 = 1.0, b1 = 0.0, b2 = 0.0, a1 = 0.0, a2 = 0.0;
};

/// A second-order section in transposed direct form II, in double. One thread at a time.
class Biquad {
public:
    Biquad() = default;
    explicit Biquad(const BiquadCoefficients& c) { set(c); }
    void set(const BiquadCoefficients& c) noexcept
    {
        b0_ = c.b0, a1_ = c.a1, a2_ = c.a2;
        feed1_ = c.b1 - c.a1 * c.b0;
        feed2_ = c.b2 - c.a2 * c.b0;
    }
    void reset() noexcept { s1_ = s2_ = 0.0; }
    double step(double x) noexcept
    {
        // The usual s1 = b1 x - a1 y + s2 with y written out: one sample waits for the last as short as can be.
        const double y = b0_ * x + s1_;
        const double next = (feed1_ * x + s2_) - a1_ * s1_;
        s2_ = feed2_ * x - a2_ * s1_;
        s1_ = next;
        return y;
    }
    void process(std::span<float> mono) noexcept
    {
        Biquad b = *this; // in registers while the loop runs
        for (float& x : mono) x = static_cast<float>(b.step(double(x)));
        *this = b;
    }

private:
    double b0_ = 1.0, a1_ = 0.0, a2_ = 0.0, feed1_ = 0.0, feed2_ = 0.0;
    double s1_ = 0.0, s2_ = 0.0;
};

/// One pole, one zero: y = b0 x + b1 x' - a1 y'. For coupling capacitors and gentle roll-offs.
class OnePole {
public:
    OnePole() = default;
    /// High pass: gain 1 at infinity, -3 dB at `cutoffHz` (bilinear transform with prewarping).
    static OnePole highPass(double cutoffHz, double rateHz) noexcept;
    static OnePole lowPass(double cutoffHz, double rateHz) noexcept;
    void reset() noexcept { state_ = 0.0; }
    double step(double x) noexcept
    {
        const double y = b0_ * x + state_;
        state_ =
            feed_ * x - a1_ * state_; // b1 x - a1 y, written so that one sample waits for the last as short as can be
        return y;
    }
    void process(std::span<float> mono) noexcept
    {
        OnePole p = *this; // in registers while the loop runs
        for (float& x : mono) x = static_cast<float>(p.step(double(x)));
        *this = p;
    }

private:
    OnePole(double b0, double b1, double a1) noexcept : b0_(b0), feed_(b1 - a1 * b0), a1_(a1) {}
    double b0_ = 1.0, feed_ = 0.0, a1_ = 0.0, state_ = 0.0;
};

/// Second-order low or high pass (bilinear transform; Q 0.7071 is Butterworth).
/// Source: the analogue prototype 1 / (s^2 + s / Q + 1) with prewarping.
BiquadCoefficients lowPass(double cutoffHz, double q, double rateHz) noexcept;
BiquadCoefficients highPass(double cutoffHz, double q, double rateHz) noexcept;
/// A bell of `db` at its middle; Q by the points at half of that. Source: Bristow-Johnson, Cookbook formulae for audio
/// EQ biquad filter coefficients: the analogue prototype (s^2 + s A / Q + 1) / (s^2 + s / (A Q) + 1).
BiquadCoefficients bell(double hz, double db, double q, double rateHz) noexcept;
/// Shelves of slope 1, half of `db` at `hz`. Source: the same.
BiquadCoefficients lowShelf(double hz, double db, double rateHz) noexcept;
BiquadCoefficients highShelf(double hz, double db, double rateHz) noexcept;

} // namespace gristle::core
