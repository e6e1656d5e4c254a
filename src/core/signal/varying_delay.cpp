#include "core/signal/varying_delay.h"

#include "core/signal/window.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr std::size_t kParts = 512, kTaps = VaryingDelay::kTaps;
using Row = std::array<float, kTaps>;

/// Row p holds the taps for p / kParts of a sample, oldest first; each sums to 1.
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
            for (std::size_t k = 0; k < kTaps; ++k) out[p][kTaps - 1 - k] = static_cast<float>(taps[k] / sum);
        }
        return out;
    }();
    return table;
}

} // namespace

void VaryingDelay::prepare(double longest)
{
    longest_ = std::max(longest, kTaps / 2.0);
    size_ = static_cast<std::size_t>(longest_) + kTaps + 2;
    line_.assign(2 * size_, 0.0f);
    at_ = 0;
    rows(); // so that none is made while playing
}

void VaryingDelay::reset() noexcept { std::ranges::fill(line_, 0.0f), at_ = 0; }

double VaryingDelay::read(double samples) const noexcept
{
    if (samples != taken_) {
        taken_ = samples;
        const double held = std::clamp(samples, kTaps / 2.0, longest_);
        whole_ = static_cast<std::size_t>(held);
        const double part = (held - double(whole_)) * kParts;
        const auto row = static_cast<std::size_t>(part);
        const float between = static_cast<float>(part - double(row));
        const Row &a = rows()[row], &b = rows()[row + 1];
        for (std::size_t k = 0; k < kTaps; ++k) taps_[k] = a[k] + (b[k] - a[k]) * between;
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
