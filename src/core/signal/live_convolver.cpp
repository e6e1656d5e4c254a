#include "core/signal/live_convolver.h"

#include "core/units/vectorised.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kWide = 65; // bins of a part

GRISTLE_VECTORISED
void addProducts(const float* ar, const float* ai, const float* br, const float* bi, float* re, float* im)
{
    for (std::size_t i = 0; i < kWide; ++i) {
        re[i] += ar[i] * br[i] - ai[i] * bi[i];
        im[i] += ar[i] * bi[i] + ai[i] * br[i];
    }
}

/// out[i] += sum over taps of head[k] x[i - k]; x has as many samples before it as there are taps.
GRISTLE_VECTORISED
void addDirect(const float* head, std::size_t taps, const float* x, float* out, std::size_t count)
{
    for (std::size_t k = 0; k < taps; ++k)
        for (std::size_t i = 0; i < count; ++i) out[i] += head[k] * x[std::ptrdiff_t(i) - std::ptrdiff_t(k)];
}

} // namespace

void LiveConvolver::Spectra::put(std::size_t part, std::span<const std::complex<float>> bins) noexcept
{
    for (std::size_t i = 0; i < kBins; ++i) {
        re[part * kBins + i] = bins[i].real();
        im[part * kBins + i] = bins[i].imag();
    }
}

LiveConvolver::LiveConvolver(std::span<const float> impulse)
    : fft_(2 * kPart), head_(kPart, 0.0f), history_(2 * kPart, 0.0f), tail_(kPart, 0.0f)
{
    static_assert(kWide == kBins);
    std::copy_n(impulse.begin(), std::min(impulse.size(), kPart), head_.begin());
    parts_ = impulse.size() > kPart ? (impulse.size() - 1) / kPart : 0;
    response_.resize(parts_);
    heard_.resize(parts_);
    for (std::size_t p = 0; p < parts_; ++p) {
        const auto part = impulse.subspan((p + 1) * kPart, std::min(kPart, impulse.size() - (p + 1) * kPart));
        std::ranges::fill(fft_.time(), 0.0f);
        std::ranges::transform(part, fft_.time().begin(), [](float x) { return x / float(2 * kPart); });
        fft_.forward();
        response_.put(p, fft_.spectrum());
    }
}

void LiveConvolver::reset() noexcept
{
    std::ranges::fill(history_, 0.0f);
    std::ranges::fill(tail_, 0.0f);
    std::ranges::fill(heard_.re, 0.0f);
    std::ranges::fill(heard_.im, 0.0f);
    filled_ = newest_ = 0;
}

void LiveConvolver::process(std::span<float> mono) noexcept
{
    while (!mono.empty()) {
        const std::size_t n = std::min(mono.size(), kPart - filled_);
        float* const now = history_.data() + kPart + filled_;
        std::copy_n(mono.begin(), n, now);
        std::copy_n(tail_.begin() + long(filled_), n, mono.begin());
        addDirect(head_.data(), kPart, now, mono.data(), n);
        filled_ += n;
        mono = mono.subspan(n);
        if (filled_ == kPart) finishPart();
    }
}

/// A part of the input is whole: what it and those before give to the next part.
void LiveConvolver::finishPart() noexcept
{
    filled_ = 0;
    if (parts_ > 0) {
        std::ranges::copy(history_, fft_.time().begin());
        fft_.forward();
        newest_ = newest_ == 0 ? parts_ - 1 : newest_ - 1;
        heard_.put(newest_, fft_.spectrum());
        makeTail();
    }
    std::copy_n(history_.begin() + kPart, kPart, history_.begin());
}

void LiveConvolver::takeOver(const LiveConvolver& before) noexcept
{
    reset();
    for (std::size_t p = 0; p < std::min(parts_, before.parts_); ++p) { // the last one first
        const std::size_t from = (before.newest_ + p) % before.parts_ * kBins, to = p * kBins;
        std::copy_n(before.heard_.re.begin() + long(from), kBins, heard_.re.begin() + long(to));
        std::copy_n(before.heard_.im.begin() + long(from), kBins, heard_.im.begin() + long(to));
    }
    std::ranges::copy(before.history_, history_.begin());
    filled_ = before.filled_;
    if (parts_ > 0) makeTail();
}

/// What the parts that were heard give to the one that is being filled.
void LiveConvolver::makeTail() noexcept
{
    float re[kBins] = {}, im[kBins] = {};
    for (std::size_t p = 0, at = newest_; p < parts_; ++p, at = at + 1 == parts_ ? 0 : at + 1)
        addProducts(&response_.re[p * kBins], &response_.im[p * kBins], &heard_.re[at * kBins], &heard_.im[at * kBins],
                    re, im);
    for (std::size_t i = 0; i < kBins; ++i) fft_.spectrum()[i] = {re[i], im[i]};
    fft_.inverse();
    std::copy_n(fft_.time().begin() + kPart, kPart, tail_.begin());
}

} // namespace gristle::core
