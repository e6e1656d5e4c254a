#include "core/signal/sinc_read.h"

#include "core/signal/window.h"

#include <cmath>
#include <cstdint>

namespace gristle::core {

const std::array<SincTaps, kSincParts + 1>& sincRows()
{
    static const auto table = [] {
        std::array<SincTaps, kSincParts + 1> out{};
        const double beta = kaiserBeta(70.0);
        for (std::size_t p = 0; p <= kSincParts; ++p) {
            std::array<double, kSincTaps> taps{};
            double sum = 0.0;
            for (std::size_t k = 0; k < kSincTaps; ++k) {
                const double t = double(k) - (kSincTaps / 2 - 1.0) - double(p) / kSincParts;
                taps[k] = sinc(t) * kaiserAt(t / (kSincTaps / 2.0), beta);
                sum += taps[k];
            }
            for (std::size_t k = 0; k < kSincTaps; ++k) out[p][kSincTaps - 1 - k] = static_cast<float>(taps[k] / sum);
        }
        return out;
    }();
    return table;
}

SincTaps sincTaps(double part) noexcept
{
    const double scaled = part * kSincParts;
    const auto row = std::min(static_cast<std::size_t>(scaled), kSincParts - 1);
    const float between = static_cast<float>(scaled - double(row));
    const SincTaps &a = sincRows()[row], &b = sincRows()[row + 1];
    SincTaps out{};
    for (std::size_t k = 0; k < kSincTaps; ++k) out[k] = a[k] + (b[k] - a[k]) * between;
    return out;
}

float readBetween(std::span<const float> x, double at) noexcept
{
    const double whole = std::ceil(at);
    const SincTaps taps = sincTaps(whole - at);
    const auto oldest = static_cast<std::int64_t>(whole) - std::int64_t(kSincTaps / 2);
    float sum = 0.0f;
    for (std::size_t k = 0; k < kSincTaps; ++k) {
        const std::int64_t i = oldest + std::int64_t(k);
        if (i >= 0 && i < std::int64_t(x.size())) sum += taps[k] * x[std::size_t(i)];
    }
    return sum;
}

} // namespace gristle::core
