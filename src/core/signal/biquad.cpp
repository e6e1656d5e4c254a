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

} // namespace gristle::core
