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
/// nothing is divided by a small number. Strong: the way is a cubic through four samples, cut in four lines, and the
/// means of ten of them are weighted by a quadratic spline, which puts triple zeros where the sampling rate folds (a
/// third-order kernel without its ill-conditioned quotients); what that takes off the top is put back behind it.
/// Source: Parker, Zavalishin, Le Bivic 2016 (antiderivative method); the closed form follows from (p - q)(p + q);
/// Schoenberg 1946 (the spline as three boxes, here of four quarters).
class Saturator {
public:
    static constexpr double kPlainDelay = 0.5, kStrongDelay = 3.25; ///< samples
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
    std::vector<float> line_;               ///< the inputs, scaled; before them three of the last block
    std::vector<float> back_, last_, mean_; ///< what lines add to the next sample and the one after it; the means
};

} // namespace gristle::core
