#include "core/signal/biquad.h"

#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

/// tan of half the angle of a cutoff, which is held below Nyquist.
double warped(double cutoffHz, double rateHz) noexcept
{
    return std::tan(std::numbers::pi * std::min(cutoffHz / rateHz, 0.499));
}

} // namespace

OnePole OnePole::highPass(double cutoffHz, double rateHz) noexcept
{
    const double k = warped(cutoffHz, rateHz);
    const double b = 1.0 / (1.0 + k);
    return {b, -b, (k - 1.0) / (k + 1.0)};
}

OnePole OnePole::lowPass(double cutoffHz, double rateHz) noexcept
{
    const double k = warped(cutoffHz, rateHz);
    const double b = k / (1.0 + k);
    return {b, b, (k - 1.0) / (k + 1.0)};
}

BiquadCoefficients lowPass(double cutoffHz, double q, double rateHz) noexcept
{
    const double k = warped(cutoffHz, rateHz);
    const double a0 = 1.0 + k / q + k * k;
    return {k * k / a0, 2.0 * k * k / a0, k * k / a0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0};
}

BiquadCoefficients highPass(double cutoffHz, double q, double rateHz) noexcept
{
    const double k = warped(cutoffHz, rateHz);
    const double a0 = 1.0 + k / q + k * k;
    return {1.0 / a0, -2.0 / a0, 1.0 / a0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0};
}

BiquadCoefficients bell(double hz, double db, double q, double rateHz) noexcept
{
    const double k = warped(hz, rateHz), a = std::pow(10.0, db / 40.0);
    const double up = k * a / q, down = k / (a * q), a0 = 1.0 + down + k * k;
    return {(1.0 + up + k * k) / a0, 2.0 * (k * k - 1.0) / a0, (1.0 - up + k * k) / a0, 2.0 * (k * k - 1.0) / a0,
            (1.0 - down + k * k) / a0};
}

namespace {

/// The low shelf A (s^2 + s sqrt(2 A) + A) / (A s^2 + s sqrt(2 A) + 1), s in units of 1 / k (slope 1: Q of 0.7071).
BiquadCoefficients shelf(double k, double a) noexcept
{
    const double s = std::sqrt(2.0 * a), a0 = a + s * k + k * k;
    return {a * (1.0 + s * k + a * k * k) / a0, 2.0 * a * (a * k * k - 1.0) / a0, a * (1.0 - s * k + a * k * k) / a0,
            2.0 * (k * k - a) / a0, (a - s * k + k * k) / a0};
}

} // namespace

BiquadCoefficients lowShelf(double hz, double db, double rateHz) noexcept
{
    return shelf(warped(hz, rateHz), std::pow(10.0, db / 40.0));
}

BiquadCoefficients highShelf(double hz, double db, double rateHz) noexcept
{
    // A gain over all, and the low shelf that takes it away again below.
    BiquadCoefficients c = shelf(warped(hz, rateHz), std::pow(10.0, -db / 40.0));
    const double gain = std::pow(10.0, db / 20.0);
    c.b0 *= gain, c.b1 *= gain, c.b2 *= gain;
    return c;
}

} // namespace gristle::core
