#include "core/signal/varying_delay.h"

#include "core/signal/window.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>

namespace gristle::core {

namespace {

constexpr std::size_t kParts = 512, kTaps = VaryingDelay::kTaps;
using Row = std::array<float, kTaps>;

/// Row p holds the taps for p / kParts of a sample, newest first; each sums to 1.
const std::array<Row, kParts + 1>& rows()
{
    static const auto table = [] {
        std::array<Row, kParts + 1> out{};
        const double beta = kaiserBeta(70.0);
        for (std::size_t p = 0; p <= kParts; ++p) {
            std::array<double, kTaps> taps{};
            double sum = 0.0;
            for (std::size_t k = 0; k < kTaps; ++k) {
                const double t = double(k) - (kTaps / 2 - 1.0) - double(p) / kParts;
                taps[k] = sinc(t) * kaiserAt(t / (kTaps / 2.0), beta);
                sum += taps[k];
            }
            for (std::size_t k = 0; k < kTaps; ++k) out[p][k] = static_cast<float>(taps[k] / sum);
        }
        return out;
    }();
    return table;
}

} // namespace

void VaryingDelay::prepare(double longest)
{
    longest_ = std::max(longest, kTaps / 2.0);
    line_.assign(std::bit_ceil(static_cast<std::size_t>(longest_) + kTaps + 2), 0.0f);
    at_ = 0;
    rows(); // so that none is made while playing
}

void VaryingDelay::reset() noexcept { std::ranges::fill(line_, 0.0f), at_ = 0; }

double VaryingDelay::read(double samples) const noexcept
{
    const double held = std::clamp(samples, kTaps / 2.0, longest_);
    const double whole = std::floor(held), part = (held - whole) * kParts;
    const auto row = static_cast<std::size_t>(part);
    const float between = static_cast<float>(part - double(row));
    const Row &a = rows()[row], &b = rows()[row + 1];
    const std::size_t mask = line_.size() - 1;
    std::size_t from = at_ - (static_cast<std::size_t>(whole) - (kTaps / 2 - 1)); // the newest tap
    float low = 0.0f, high = 0.0f;
    for (std::size_t k = 0; k < kTaps; ++k, --from) {
        const float x = line_[from & mask];
        low += a[k] * x;
        high += b[k] * x;
    }
    return double(low + (high - low) * between);
}

void VaryingDelay::write(float x) noexcept
{
    line_[at_ & (line_.size() - 1)] = x;
    ++at_;
}

} // namespace gristle::core
