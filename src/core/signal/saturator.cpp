#include "core/signal/saturator.h"

#include "core/units/vectorised.h"

#include <cmath>

namespace gristle::core {

namespace {

inline float root(float u) noexcept { return std::sqrt(1.0f + u * u); }

/// Means of s over each line from u[i] to u[i + 1].
GRISTLE_VECTORISED
void plain(const float* u, float* y, std::size_t n, float out, float rest) noexcept
{
    for (std::size_t i = 0; i < n; ++i) y[i] = out * ((u[i] + u[i + 1]) / (root(u[i]) + root(u[i + 1])) - rest);
}

/// Each line in quarters, means m0 to m3. Seven quarters under a triangle of 16ths: this line counts 4, 3, 2, 1, the
/// one before it 0, 1, 2, 3. front and back[1...] take the two sums; back[0] is that of the line before the block.
GRISTLE_VECTORISED
void quarters(const float* u, float* front, float* back, std::size_t n) noexcept
{
    for (std::size_t i = 0; i < n; ++i) {
        const float a = u[i], e = u[i + 1], step = 0.25f * (e - a);
        const float b = a + step, c = a + 2.0f * step, d = a + 3.0f * step;
        const float ra = root(a), rb = root(b), rc = root(c), rd = root(d), re = root(e);
        const float m0 = (a + b) / (ra + rb), m1 = (b + c) / (rb + rc), m2 = (c + d) / (rc + rd),
                    m3 = (d + e) / (rd + re);
        front[i] = (4.0f * m0 + 3.0f * m1) + (2.0f * m2 + m3);
        back[i + 1] = m1 + (2.0f * m2 + 3.0f * m3);
    }
}

GRISTLE_VECTORISED
void join(float* x, const float* back, std::size_t n, float out, float rest) noexcept
{
    for (std::size_t i = 0; i < n; ++i) x[i] = out * (0.0625f * (x[i] + back[i]) - rest);
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
{
    reset();
}

void Saturator::prepare(std::size_t maxFrames)
{
    line_.assign(maxFrames + 1, 0.0f);
    back_.assign(maxFrames + 1, 0.0f);
}

void Saturator::reset() noexcept
{
    last_ = offset_;
    lastBack_ = 6.0f * rest_; // three weighted quarters of a line at rest
}

void Saturator::process(std::span<float> x, float gain) noexcept
{
    if (x.empty()) return;
    const std::size_t n = x.size();
    line_[0] = last_;
    scaleInto(x.data(), line_.data() + 1, n, gain * in_, offset_);
    last_ = line_[n];
    if (kind_ == Antialiasing::Plain) return plain(line_.data(), x.data(), n, out_, rest_);
    back_[0] = lastBack_;
    quarters(line_.data(), x.data(), back_.data(), n);
    lastBack_ = back_[n];
    join(x.data(), back_.data(), n, out_, rest_);
}

} // namespace gristle::core
