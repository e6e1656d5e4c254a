#include "core/signal/saturator.h"

#include "core/units/vectorised.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr std::size_t kBefore = 3;

inline float root(float u) noexcept { return std::sqrt(1.0f + u * u); }

/// Means of s over each line from u[i] to u[i + 1].
GRISTLE_VECTORISED
void plain(const float* u, float* y, std::size_t n, float out, float rest) noexcept
{
    for (std::size_t i = 0; i < n; ++i) y[i] = out * ((u[i] + u[i + 1]) / (root(u[i]) + root(u[i + 1])) - rest);
}

/// Each way from u[i + 1] to u[i + 2] in quarters, means m0 to m3. Ten quarters under the spline: this way counts 10,
/// 6, 3, 1, the one before it 6, 10, 12, 12, the one before that 0, 0, 1, 3. now, back[1...] and last[2...] take the
/// sums; the first ones are those of the ways before the block.
GRISTLE_VECTORISED
void quarters(const float* u, float* now, float* back, float* last, std::size_t n) noexcept
{
    constexpr float kA = 7.0f / 128.0f, kB = 105.0f / 128.0f, kC = 35.0f / 128.0f, kD = 5.0f / 128.0f,
                    kE = 1.0f / 16.0f, kF = 9.0f / 16.0f; // Lagrange's cubic
    for (std::size_t i = 0; i < n; ++i) {
        const float from = u[i], a = u[i + 1], e = u[i + 2], to = u[i + 3];
        const float b = (kB * a + kC * e) - (kA * from + kD * to), c = kF * (a + e) - kE * (from + to),
                    d = (kC * a + kB * e) - (kD * from + kA * to);
        const float ra = root(a), rb = root(b), rc = root(c), rd = root(d), re = root(e);
        const float m0 = (a + b) / (ra + rb), m1 = (b + c) / (rb + rc), m2 = (c + d) / (rc + rd),
                    m3 = (d + e) / (rd + re);
        now[i] = (10.0f * m0 + 6.0f * m1) + (3.0f * m2 + m3);
        back[i + 1] = (6.0f * m0 + 10.0f * m1) + 12.0f * (m2 + m3);
        last[i + 2] = m2 + 3.0f * m3;
    }
}

/// The means; the first two are those before the block.
GRISTLE_VECTORISED
void join(const float* now, const float* back, const float* last, float* mean, std::size_t n, float out,
          float rest) noexcept
{
    constexpr float kAll = 1.0f / 64.0f;
    for (std::size_t i = 0; i < n; ++i) mean[i + 2] = out * (kAll * ((now[i] + back[i]) + last[i]) - rest);
}

/// The spline's gain falls by an eighth of the square of the frequency in radians a sample; so this one's rises.
GRISTLE_VECTORISED
void lift(const float* mean, float* x, std::size_t n) noexcept
{
    for (std::size_t i = 0; i < n; ++i) x[i] = 1.25f * mean[i + 1] - 0.125f * (mean[i] + mean[i + 2]);
}

GRISTLE_VECTORISED
void scaleInto(const float* x, float* u, std::size_t n, float scale, float offset) noexcept
{
    for (std::size_t i = 0; i < n; ++i) u[i] = x[i] * scale + offset;
}

} // namespace

Saturator::Saturator(double offset, double ceiling, Antialiasing kind) noexcept
    : kind_(kind), offset_(static_cast<float>(offset)),
      rest_(static_cast<float>(offset / std::sqrt(1.0 + offset * offset))), in_(static_cast<float>(1.0 / ceiling)),
      out_(static_cast<float>(ceiling * std::pow(1.0 + offset * offset, 1.5)))
{}

void Saturator::prepare(std::size_t maxFrames)
{
    line_.resize(maxFrames + kBefore);
    if (kind_ == Antialiasing::Strong)
        for (auto* numbers : {&back_, &last_, &mean_}) numbers->resize(maxFrames + 2);
    reset();
}

void Saturator::reset() noexcept
{
    std::ranges::fill(line_, offset_);
    std::ranges::fill(back_, 40.0f * rest_); // quarters at rest, weighted
    std::ranges::fill(last_, 4.0f * rest_);
    std::ranges::fill(mean_, 0.0f);
}

void Saturator::process(std::span<float> x, float gain) noexcept
{
    if (x.empty()) return;
    const std::size_t n = x.size();
    scaleInto(x.data(), line_.data() + kBefore, n, gain * in_, offset_);
    if (kind_ == Antialiasing::Plain) {
        plain(line_.data() + kBefore - 1, x.data(), n, out_, rest_);
    } else {
        quarters(line_.data(), x.data(), back_.data(), last_.data(), n);
        join(x.data(), back_.data(), last_.data(), mean_.data(), n, out_, rest_);
        lift(mean_.data(), x.data(), n);
        back_[0] = back_[n];
        for (auto* numbers : {&last_, &mean_}) std::copy_n(numbers->begin() + long(n), 2, numbers->begin());
    }
    std::copy_n(line_.begin() + long(n), kBefore, line_.begin());
}

} // namespace gristle::core
