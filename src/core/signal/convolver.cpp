#include "core/signal/convolver.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

/// The transform that costs least a frame: n lg n / (n - taps + 1), held under 2^18 where the cache ends.
std::size_t bestTransform(std::size_t taps)
{
    std::size_t best = 0;
    double bestCost = 0.0;
    for (std::size_t n = 256; n <= (std::size_t{1} << 24); n *= 2) {
        if (n < 2 * taps) continue;
        const double cost = double(n) * std::log2(double(n)) / double(n - taps + 1);
        if (best == 0 || cost < bestCost) {
            best = n;
            bestCost = cost;
        }
        if (n >= 16 * taps) break;
    }
    return best;
}

} // namespace

OverlapSave::OverlapSave(std::span<const float> impulse)
    : taps_(std::max<std::size_t>(impulse.size(), 1)), hop_(bestTransform(taps_) - taps_ + 1),
      fft_(bestTransform(taps_)), response_(fft_.size() / 2 + 1), history_(fft_.size(), 0.0f), ready_(hop_, 0.0f)
{
    std::ranges::fill(fft_.time(), 0.0f);
    const float scale = 1.0f / static_cast<float>(fft_.size());
    for (std::size_t i = 0; i < impulse.size(); ++i) fft_.time()[i] = impulse[i] * scale;
    fft_.forward();
    std::ranges::copy(fft_.spectrum(), response_.begin());
}

void OverlapSave::reset() noexcept
{
    std::ranges::fill(history_, 0.0f);
    std::ranges::fill(ready_, 0.0f);
    filled_ = 0;
}

void OverlapSave::process(std::span<float> mono) noexcept
{
    float* const incoming = history_.data() + (taps_ - 1);
    while (!mono.empty()) {
        const std::size_t take = std::min(mono.size(), hop_ - filled_);
        for (std::size_t i = 0; i < take; ++i) {
            incoming[filled_ + i] = mono[i];
            mono[i] = ready_[filled_ + i];
        }
        filled_ += take;
        mono = mono.subspan(take);
        if (filled_ == hop_) {
            convolveBlock();
            filled_ = 0;
        }
    }
}

void OverlapSave::convolveBlock() noexcept
{
    std::ranges::copy(history_, fft_.time().begin());
    fft_.forward();
    const auto bins = fft_.spectrum();
    for (std::size_t k = 0; k < bins.size(); ++k) {
        const float re = bins[k].real() * response_[k].real() - bins[k].imag() * response_[k].imag();
        const float im = bins[k].real() * response_[k].imag() + bins[k].imag() * response_[k].real();
        bins[k] = {re, im};
    }
    fft_.inverse();
    std::copy_n(fft_.time().begin() + long(taps_ - 1), hop_, ready_.begin());
    std::copy(history_.end() - long(taps_ - 1), history_.end(), history_.begin());
}

std::vector<float> convolve(std::span<const float> a, std::span<const float> b)
{
    if (a.empty() || b.empty()) return {};
    const auto impulse = a.size() < b.size() ? a : b;
    const auto signal = a.size() < b.size() ? b : a;
    OverlapSave convolver(impulse);
    const std::size_t length = a.size() + b.size() - 1;
    std::vector<float> out(length + convolver.latency(), 0.0f);
    std::ranges::copy(signal, out.begin());
    convolver.process(out);
    out.erase(out.begin(), out.begin() + long(convolver.latency()));
    return out;
}

} // namespace gristle::core
