#pragma once

#include <cmath>
#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

/// The static shape s(x) = x / sqrt(1 + x^2) with an offset, s(x + b) - s(b), scaled to a slope of 1 at rest, run with
/// first-order antiderivative anti-aliasing: the mean of s over the straight line from one sample to the next. Its
/// antiderivative is sqrt(1 + x^2), so the quotient of differences is (a + b) / (sqrt(1 + a^2) + sqrt(1 + b^2)) and
/// nothing is divided by a small number. Delays by half a sample.
/// Source: Parker, Zavalishin, Le Bivic 2016 (antiderivative method); the closed form follows from (p - q)(p + q).
class Saturator {
public:
    /// @param offset   b, moves the working point: even harmonics
    /// @param ceiling  output where the shape ends, at b = 0; also the scale of the input
    Saturator(double offset, double ceiling) noexcept
        : offset_(static_cast<float>(offset)), rest_(static_cast<float>(offset / std::sqrt(1.0 + offset * offset))),
          in_(static_cast<float>(1.0 / ceiling)),
          out_(static_cast<float>(ceiling * std::pow(1.0 + offset * offset, 1.5)))
    {
        reset();
    }
    void prepare(std::size_t maxFrames) { work_.assign(2 * (maxFrames + 1), 0.0f); }
    void reset() noexcept { last_ = offset_; }

    /// In place, at most maxFrames. `gain` is the gain ahead of the shape.
    void process(std::span<float> x, float gain) noexcept;

private:
    float offset_, rest_, in_, out_;
    float last_ = 0.0f;
    std::vector<float> work_;
};

} // namespace gristle::core
