#pragma once

#include <cstddef>
#include <vector>

namespace gristle::core {

/// Periodic Hann window of n points.
std::vector<double> hannWindow(std::size_t n);

/// Modified Bessel function of the first kind, order 0, by its power series.
double besselI0(double x) noexcept;

/// Kaiser's beta for a stop band `attenuationDb` down. Source: Kaiser 1974.
double kaiserBeta(double attenuationDb) noexcept;

/// Kaiser window at position t in [-1, 1]; 0 outside.
double kaiserAt(double t, double beta) noexcept;

/// sin(pi x) / (pi x)
double sinc(double x) noexcept;

} // namespace gristle::core
