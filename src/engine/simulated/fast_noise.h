#pragma once

#include <cmath>
#include <cstdint>

namespace gristle::engine {

/// Noise for simulated electronics: the sum of four uniform numbers of a linear congruential generator, which is
/// Gaussian enough, variance 1. The same seed gives the same noise.
class FastNoise {
public:
    explicit FastNoise(std::uint32_t seed) noexcept : state_(seed * 2654435761u + 1u) {}
    double operator()() noexcept
    {
        double sum = 0.0;
        for (int i = 0; i < 4; ++i) {
            state_ = state_ * 1664525u + 1013904223u;
            sum += double(state_ >> 8) / 16777216.0 - 0.5;
        }
        return sum * std::sqrt(3.0);
    }

private:
    std::uint32_t state_;
};

} // namespace gristle::engine
