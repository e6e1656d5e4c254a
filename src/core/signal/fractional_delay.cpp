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
    line_.assign(whole_ + kTaps + 1, 0.0f);
    at_ = 0;
    if (isWhole_) return;
    // Taps reach from whole_ - 15 to whole_ + 16 samples back, around held.
    const double part = held - double(whole_);
    const double beta = kaiserBeta(70.0);
    double sum = 0.0;
    for (std::size_t k = 0; k < kTaps; ++k) {
        const double t = double(k) - (kTaps / 2 - 1.0) - part;
        taps_[k] = sinc(t) * kaiserAt(t / (kTaps / 2.0), beta);
        sum += taps_[k];
    }
    for (double& tap : taps_) tap /= sum;
}

void FractionalDelay::reset() noexcept { std::ranges::fill(line_, 0.0f), at_ = 0; }

double FractionalDelay::read() const noexcept
{
    const std::size_t n = line_.size();
    if (isWhole_) return double(line_[(at_ + n - whole_) % n]);
    double sum = 0.0;
    std::size_t from = (at_ + 2 * n - (whole_ - (kTaps / 2 - 1))) % n; // the newest tap
    for (std::size_t k = 0; k < kTaps; ++k) {
        sum += taps_[k] * double(line_[from]);
        from = from == 0 ? n - 1 : from - 1;
    }
    return sum;
}

void FractionalDelay::write(float x) noexcept
{
    line_[at_] = x;
    if (++at_ == line_.size()) at_ = 0;
}

} // namespace gristle::core
