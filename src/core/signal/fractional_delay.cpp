#include "core/signal/fractional_delay.h"

#include "core/signal/window.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

void FractionalDelay::prepare(double samples)
{
    const double held = std::max(samples, double(kTaps) / 2.0);
    const double rounded = std::nearbyint(held);
    isWhole_ = std::abs(held - rounded) < 1e-6;
    whole_ = static_cast<std::size_t>(isWhole_ ? rounded : std::floor(held));
    size_ = whole_ + kTaps + 1;
    line_.assign(2 * size_, 0.0f);
    at_ = 0;
    if (isWhole_) return;
    // Taps reach from whole_ - 15 to whole_ + 16 samples back, around held.
    const double part = held - double(whole_);
    const double beta = kaiserBeta(70.0);
    double sum = 0.0;
    for (std::size_t k = 0; k < kTaps; ++k) {
        const double t = double(k) - (kTaps / 2 - 1.0) - part;
        taps_[kTaps - 1 - k] = sinc(t) * kaiserAt(t / (kTaps / 2.0), beta); // oldest first
        sum += taps_[kTaps - 1 - k];
    }
    for (double& tap : taps_) tap /= sum;
}

void FractionalDelay::reset() noexcept { std::ranges::fill(line_, 0.0f), at_ = 0; }

double FractionalDelay::read() const noexcept
{
    if (isWhole_) return double(line_[at_ + size_ - whole_]);
    const float* const x = line_.data() + at_ + size_ - (whole_ + kTaps / 2);
    std::array<double, 4> sum{};
    for (std::size_t k = 0; k < kTaps; k += sum.size())
        for (std::size_t j = 0; j < sum.size(); ++j) sum[j] += taps_[k + j] * double(x[k + j]);
    return (sum[0] + sum[2]) + (sum[1] + sum[3]);
}

void FractionalDelay::write(float x) noexcept
{
    line_[at_] = line_[at_ + size_] = x;
    if (++at_ == size_) at_ = 0;
}

void FractionalDelay::takeOver(const FractionalDelay& before) noexcept
{
    reset();
    const std::size_t n = std::min(size_, before.size_);
    for (std::size_t back = n; back > 0; --back) write(before.line_[before.at_ + before.size_ - back]);
}

} // namespace gristle::core
