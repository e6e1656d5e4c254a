#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

/// How hard a stage may be driven before what it folds is heard: decides the work for each sample.
enum class Antialiasing { Plain, Strong };

/// The static shape s(x) = x / sqrt(1 + x^2) with an offset, s(x + b) - s(b), scaled to a slope of 1 at rest, run with
/// antiderivative anti-aliasing. Plain: the mean of s over the straight line from one sample to the next. Its
/// antiderivative is sqrt(1 + x^2), so the quotient of differences is (a + b) / (sqrt(1 + a^2) + sqrt(1 + b^2)) and
/// nothing is divided by a small number. Strong: each line is cut in four, and the means of seven quarters are weighted
/// by a triangle, which puts double zeros where the sampling rate folds (a second-order kernel without its
/// ill-conditioned quotients). Delays by 1/2 (plain) or 7/8 (strong) of a sample. Source: Parker, Zavalishin, Le Bivic
/// 2016 (antiderivative method); the closed form follows from (p - q)(p + q).
class Saturator {
public:
    /// @param offset   b, moves the working point: even harmonics
    /// @param ceiling  output where the shape ends, at b = 0; also the scale of the input
    Saturator(double offset, double ceiling, Antialiasing kind = Antialiasing::Plain) noexcept;
    void prepare(std::size_t maxFrames); ///< allocates
    void reset() noexcept;
    /// In place, at most maxFrames. `gain` is the gain ahead of the shape.
    void process(std::span<float> x, float gain) noexcept;

private:
    Antialiasing kind_;
    float offset_, rest_, in_, out_;
    float last_ = 0.0f;     ///< the input before this block, scaled
    float lastBack_ = 0.0f; ///< weighted means of the line before it
    std::vector<float> line_, back_;
};

} // namespace gristle::core
