#include "core/signal/window.h"

#include <cmath>
#include <complex>
#include <numbers>

namespace gristle::core {

std::vector<double> hannWindow(std::size_t n)
{
    std::vector<double> w(n);
    const std::complex<double> turn = std::polar(1.0, 2.0 * std::numbers::pi / double(n));
    std::complex<double> at = 1.0; // turned step by step: a cosine each would take long
    for (std::size_t i = 0; 2 * i <= n && i < n; ++i, at *= turn) w[i] = w[(n - i) % n] = 0.5 - 0.5 * at.real();
    return w;
}

double besselI0(double x) noexcept
{
    double sum = 1.0;
    double term = 1.0;
    for (int k = 1; k < 60 && term > 1e-17 * sum; ++k) {
        term *= (x / (2.0 * k)) * (x / (2.0 * k));
        sum += term;
    }
    return sum;
}

double kaiserBeta(double attenuationDb) noexcept
{
    if (attenuationDb > 50.0) return 0.1102 * (attenuationDb - 8.7);
    if (attenuationDb >= 21.0) return 0.5842 * std::pow(attenuationDb - 21.0, 0.4) + 0.07886 * (attenuationDb - 21.0);
    return 0.0;
}

double kaiserAt(double t, double beta) noexcept
{
    if (std::abs(t) > 1.0) return 0.0;
    return besselI0(beta * std::sqrt(1.0 - t * t)) / besselI0(beta);
}

double sinc(double x) noexcept
{
    if (std::abs(x) < 1e-9) return 1.0;
    return std::sin(std::numbers::pi * x) / (std::numbers::pi * x);
}

} // namespace gristle::core
