#include "core/signal/live_convolver.h"

#include "core/units/vectorised.h"

#include <algorithm>
#include <utility>

namespace gristle::core {

namespace {

constexpr std::size_t kFarFrom = 1024, kLongestNear = 2048; // taps

/// Adds products of `count` spectra to a sum, of sixteen bins: of each the real parts, then the imaginary ones.
GRISTLE_VECTORISED
void addProducts(const float* a, const float* b, std::size_t count, float* sum)
{
    constexpr std::size_t kLanes = 2;
    FloatLane re[kLanes], im[kLanes];
    std::memcpy(re, sum, sizeof re);
    std::memcpy(im, sum + kLanes * kFloatLane, sizeof im);
    for (std::size_t p = 0; p < count; ++p, a += 2 * kLanes * kFloatLane, b += 2 * kLanes * kFloatLane)
        for (std::size_t i = 0; i < kLanes; ++i) {
            FloatLane aRe, aIm, bRe, bIm;
            load(aRe, a + kFloatLane * i), load(aIm, a + kFloatLane * (kLanes + i));
            load(bRe, b + kFloatLane * i), load(bIm, b + kFloatLane * (kLanes + i));
            re[i] += aRe * bRe - aIm * bIm;
            im[i] += aRe * bIm + aIm * bRe;
        }
    std::memcpy(sum, re, sizeof re);
    std::memcpy(sum + kLanes * kFloatLane, im, sizeof im);
}

/// out[i] += sum over taps of head[k] x[i - k]; x has as many samples before it as there are taps.
GRISTLE_VECTORISED
void addDirect(const float* head, std::size_t taps, const float* x, float* out, std::size_t count)
{
    constexpr std::size_t kLanes = 4;
    std::size_t i = 0;
    for (; i + kLanes * kFloatLane <= count; i += kLanes * kFloatLane) {
        FloatLane sum[kLanes];
        std::memcpy(sum, out + i, sizeof sum);
        for (std::size_t k = 0; k < taps; ++k)
            for (std::size_t lane = 0; lane < kLanes; ++lane) {
                FloatLane from;
                load(from, x + std::ptrdiff_t(i + kFloatLane * lane) - std::ptrdiff_t(k));
                sum[lane] += head[k] * from;
            }
        std::memcpy(out + i, sum, sizeof sum);
    }
    for (; i < count; ++i)
        for (std::size_t k = 0; k < taps; ++k) out[i] += head[k] * x[std::ptrdiff_t(i) - std::ptrdiff_t(k)];
}

std::span<const float> from(std::span<const float> taps, std::size_t first)
{
    return taps.subspan(std::min(first, taps.size()));
}

} // namespace

PartedResponse::PartedResponse(std::span<const float> taps, std::size_t length)
    : length_(length), chunks_(length / kChunk + 1), fft_(2 * length),
      response_(chunks_, (taps.size() + length - 1) / length), heard_(chunks_, response_.count + 1), sum_(chunks_, 1)
{
    for (std::size_t p = 0; p < response_.count; ++p) {
        const auto part = taps.subspan(p * length, std::min(length, taps.size() - p * length));
        std::ranges::fill(fft_.time(), 0.0f);
        std::ranges::transform(part, fft_.time().begin(), [&](float x) { return x / float(2 * length); });
        fft_.forward();
        response_.put(p, fft_.spectrum());
    }
}

void PartedResponse::Spectra::put(std::size_t which, std::span<const std::complex<float>> bins) noexcept
{
    for (std::size_t first = 0; first < bins.size(); first += kChunk) {
        float* const to = at(first / kChunk, which);
        for (std::size_t i = 0; i < std::min(kChunk, bins.size() - first); ++i)
            to[i] = bins[first + i].real(), to[kChunk + i] = bins[first + i].imag();
    }
}

void PartedResponse::hear(std::span<const float> window) noexcept
{
    std::ranges::copy(window, fft_.time().begin());
    fft_.forward();
    newest_ = newest_ == 0 ? heard_.count - 1 : newest_ - 1;
    heard_.put(newest_, fft_.spectrum());
}

void PartedResponse::add(std::size_t from, std::size_t to, std::size_t ago) noexcept
{
    const std::size_t at = (newest_ + ago) % heard_.count, n = std::min(count(), heard_.count - at);
    for (std::size_t chunk = from; chunk < to; ++chunk) { // up to the end of the ring, then from its start
        addProducts(response_.at(chunk, 0), heard_.at(chunk, at), n, sum_.at(chunk, 0));
        if (n < count()) addProducts(response_.at(chunk, n), heard_.at(chunk, 0), count() - n, sum_.at(chunk, 0));
    }
}

void PartedResponse::finish(std::span<float> out) noexcept
{
    const auto bins = fft_.spectrum();
    for (std::size_t i = 0; i < bins.size(); ++i) {
        const float* const from = sum_.at(i / kChunk, 0) + i % kChunk;
        bins[i] = {from[0], from[kChunk]};
    }
    fft_.inverse();
    std::ranges::copy(fft_.time().subspan(length_), out.begin());
    std::ranges::fill(sum_.numbers, 0.0f);
}

void PartedResponse::reset() noexcept
{
    std::ranges::fill(heard_.numbers, 0.0f);
    std::ranges::fill(sum_.numbers, 0.0f);
    newest_ = 0;
}

void PartedResponse::takeOver(const PartedResponse& before) noexcept
{
    reset();
    for (std::size_t p = 0; p < std::min(heard_.count, before.heard_.count); ++p) // the last one first
        for (std::size_t chunk = 0; chunk < chunks_; ++chunk)
            std::copy_n(before.heard_.at(chunk, (before.newest_ + p) % before.heard_.count), 2 * kChunk,
                        heard_.at(chunk, p));
}

LiveConvolver::LiveConvolver(std::span<const float> impulse)
    : head_(kPart, 0.0f), near_(from(impulse.size() > kLongestNear ? impulse.first(kFarFrom) : impulse, kPart), kPart),
      history_(2 * kPart, 0.0f), tail_(kPart, 0.0f)
{
    static_assert(kFarFrom == 2 * kFarPart, "a whole part's time to work, once its input is whole");
    std::copy_n(impulse.begin(), std::min(impulse.size(), kPart), head_.begin());
    if (impulse.size() <= kLongestNear) return;
    far_.emplace(from(impulse, kFarFrom), kFarPart);
    for (auto* window : {&farWindow_, &farHeard_}) window->resize(2 * kFarPart);
    for (auto* part : {&farTail_, &farNext_}) part->resize(kFarPart);
}

void LiveConvolver::reset() noexcept
{
    for (auto* numbers : {&history_, &tail_, &farWindow_, &farHeard_, &farTail_, &farNext_})
        std::ranges::fill(*numbers, 0.0f);
    near_.reset();
    if (far_) far_->reset();
    filled_ = farStep_ = 0;
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
    if (near_.count() > 0) {
        near_.hear(history_);
        if (far_) workFar();
        makeTail();
    }
    std::copy_n(history_.begin() + kPart, kPart, history_.begin());
}

/// What the parts that were heard give to the one that is being filled.
void LiveConvolver::makeTail() noexcept
{
    near_.add(0, near_.chunks());
    near_.finish(tail_);
    if (far_)
        for (std::size_t i = 0; i < kPart; ++i) tail_[i] += farTail_[kPart * farStep_ + i];
}

/// The first step transforms, the last one transforms back, those between share the bins.
std::size_t LiveConvolver::farAddedBy(std::size_t step) const noexcept
{
    return far_->chunks() * std::min(step, kFarSteps - 2) / (kFarSteps - 2);
}

/// One step for the long part that comes next.
void LiveConvolver::workFar() noexcept
{
    std::copy_n(history_.begin() + kPart, kPart, farWindow_.begin() + long(kFarPart + kPart * farStep_));
    if (farStep_ == 0)
        far_->hear(farHeard_);
    else if (farStep_ + 1 < kFarSteps)
        far_->add(farAddedBy(farStep_ - 1), farAddedBy(farStep_));
    else
        far_->finish(farNext_);
    if (++farStep_ < kFarSteps) return;
    farStep_ = 0;
    farTail_.swap(farNext_);
    std::ranges::copy(farWindow_, farHeard_.begin());
    std::copy_n(farWindow_.begin() + kFarPart, kFarPart, farWindow_.begin());
}

void LiveConvolver::takeOver(const LiveConvolver& before) noexcept
{
    reset();
    near_.takeOver(before.near_);
    std::ranges::copy(before.history_, history_.begin());
    filled_ = before.filled_;
    if (far_ && before.far_) {
        far_->takeOver(*before.far_);
        std::ranges::copy(before.farWindow_, farWindow_.begin());
        std::ranges::copy(before.farHeard_, farHeard_.begin());
        farStep_ = before.farStep_;
        far_->add(0, far_->chunks(), farStep_ == 0 ? 0 : 1);
        far_->finish(farTail_);
        if (farStep_ > 0) far_->add(0, farAddedBy(farStep_ - 1));
    }
    if (near_.count() > 0) makeTail();
}

} // namespace gristle::core
