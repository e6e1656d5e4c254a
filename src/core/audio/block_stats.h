#pragma once

#include <algorithm>
#include <cstddef>
#include <span>

namespace gristle::core {

struct MinMax {
    float low = 0.0f;
    float high = 0.0f;
    bool operator==(const MinMax&) const = default;
};

/// Lowest and highest value; not for empty spans. Eight lanes side by side, which compilers turn into vectors (a plain
/// minimum over floats they may not reorder).
inline MinMax extremesOf(std::span<const float> x) noexcept
{
    constexpr std::size_t kLanes = 8;
    float low[kLanes], high[kLanes];
    for (std::size_t k = 0; k < kLanes; ++k) low[k] = high[k] = x[0];
    std::size_t i = 0;
    for (; i + kLanes <= x.size(); i += kLanes)
        for (std::size_t k = 0; k < kLanes; ++k) {
            const float v = x[i + k];
            low[k] = v < low[k] ? v : low[k];
            high[k] = v > high[k] ? v : high[k];
        }
    for (; i < x.size(); ++i) {
        low[0] = std::min(low[0], x[i]);
        high[0] = std::max(high[0], x[i]);
    }
    return {*std::min_element(low, low + kLanes), *std::max_element(high, high + kLanes)};
}

struct Sums {
    double sum = 0.0;
    double squares = 0.0;
};

/// Sum and sum of squares in double, in four lanes, so that additions need not wait for each other.
inline Sums sumsOf(std::span<const float> x) noexcept
{
    constexpr std::size_t kLanes = 4;
    double sum[kLanes] = {}, squares[kLanes] = {};
    std::size_t i = 0;
    for (; i + kLanes <= x.size(); i += kLanes)
        for (std::size_t k = 0; k < kLanes; ++k) {
            const double v = double(x[i + k]);
            sum[k] += v;
            squares[k] += v * v;
        }
    for (; i < x.size(); ++i) {
        sum[0] += double(x[i]);
        squares[0] += double(x[i]) * double(x[i]);
    }
    return {(sum[0] + sum[1]) + (sum[2] + sum[3]), (squares[0] + squares[1]) + (squares[2] + squares[3])};
}

} // namespace gristle::core
