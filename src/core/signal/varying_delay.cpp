#include "core/signal/varying_delay.h"

#include "core/signal/sinc_read.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

static_assert(VaryingDelay::kTaps == kSincTaps);

void VaryingDelay::prepare(double longest)
{
    longest_ = std::max(longest, kTaps / 2.0);
    size_ = static_cast<std::size_t>(longest_) + kTaps + 2;
    line_.assign(2 * size_, 0.0f);
    at_ = 0;
    sincRows(); // so that none is made while playing
}

void VaryingDelay::reset() noexcept { std::ranges::fill(line_, 0.0f), at_ = 0; }

double VaryingDelay::read(double samples) const noexcept
{
    if (samples != taken_) {
        taken_ = samples;
        const double held = std::clamp(samples, kTaps / 2.0, longest_);
        whole_ = static_cast<std::size_t>(held);
        taps_ = sincTaps(held - double(whole_));
    }
    // From whole_ + 16 to whole_ - 15 samples back; whole_ + 16 is within the line.
    const float* const x = line_.data() + at_ + size_ - (whole_ + kTaps / 2);
    std::array<float, 8> sum{};
    for (std::size_t k = 0; k < kTaps; k += sum.size())
        for (std::size_t j = 0; j < sum.size(); ++j) sum[j] += taps_[k + j] * x[k + j];
    return double(((sum[0] + sum[4]) + (sum[1] + sum[5])) + ((sum[2] + sum[6]) + (sum[3] + sum[7])));
}

void VaryingDelay::write(float x) noexcept
{
    line_[at_] = line_[at_ + size_] = x;
    if (++at_ == size_) at_ = 0;
}

void VaryingDelay::takeOver(const VaryingDelay& before) noexcept
{
    reset();
    const std::size_t n = std::min(size_, before.size_);
    for (std::size_t back = n; back > 0; --back) write(before.line_[before.at_ + before.size_ - back]);
}

} // namespace gristle::core
