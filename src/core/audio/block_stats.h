#pragma once

#include <cstddef>
#include <span>

namespace gristle::core {

struct MinMax {
    float low = 0.0f;
    float high = 0.0f;
    bool operator==(const MinMax&) const = default;
};

/// Lowest and highest value; not for empty spans.
MinMax extremesOf(std::span<const float> x) noexcept;

/// Lowest and highest value of each of out.size() blocks of `block` samples. @param block  a multiple of 8
void extremesOfBlocks(std::span<const float> x, std::size_t block, std::span<MinMax> out) noexcept;

struct Sums {
    double sum = 0.0;
    double squares = 0.0;
};

/// Sum and sum of squares in double, in eight lanes, so that additions need not wait for each other. The same bits on
/// every machine.
Sums sumsOf(std::span<const float> x) noexcept;

} // namespace gristle::core
