#include "core/signal/saturator.h"

#include "core/signal/vectorised.h"

#include <cmath>

namespace gristle::core {

namespace {

GRISTLE_VECTORISED
void shape(float* x, float* u, float* root, std::size_t n, float scale, float offset, float out, float rest) noexcept
{
    for (std::size_t i = 0; i < n; ++i) u[i + 1] = x[i] * scale + offset;
    for (std::size_t i = 0; i <= n; ++i) root[i] = std::sqrt(1.0f + u[i] * u[i]);
    for (std::size_t i = 0; i < n; ++i) x[i] = out * ((u[i] + u[i + 1]) / (root[i] + root[i + 1]) - rest);
}

} // namespace

void Saturator::process(std::span<float> x, float gain) noexcept
{
    if (x.empty()) return;
    float* const u = work_.data();
    u[0] = last_;
    shape(x.data(), u, u + x.size() + 1, x.size(), gain * in_, offset_, out_, rest_);
    last_ = u[x.size()];
}

} // namespace gristle::core
