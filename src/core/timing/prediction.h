#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

/// What a linear prediction, learned from the 40 ms before `from`, does not foresee of the samples from..to: a string
/// that rings on is foreseen, a new attack is not. Where nothing is before, the samples themselves.
/// Source: Makhoul 1975, Linear prediction: a tutorial review (the covariance method), order 24.
std::vector<double> predictionError(std::span<const float> x, double rateHz, std::size_t from, std::size_t to);

} // namespace gristle::core
