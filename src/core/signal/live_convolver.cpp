#include "core/signal/live_convolver.h"

#include "core/units/vectorised.h"

#include <algorithm>
#include <utility>

namespace gristle::core {

namespace {

/// Longer impulses go on from twice the length of its parts in these.
struct Longer {
    std::size_t taps, length;
};
constexpr Longer kLonger[]{{2048, 256}, {8192, 1024}};

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

/// Taps from one to another, as far as there are any.
std::span<const float> between(std::span<const float> taps, std::size_t first, std::size_t last)
{
    last = std::min(last, taps.size());
    return first < last ? taps.subspan(first, last - first) : std::span<const float>();
}
/// How far parts of a length go: to where longer ones begin, or the end.
std::size_t endOf(std::span<const float> impulse, std::size_t length)
{
    for (const Longer& longer : kLonger)
        if (longer.length > length && impulse.size() > longer.taps) return 2 * longer.length;
    return impulse.size();
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

LongParts::LongParts(std::span<const float> impulse, std::size_t length)
    : length_(length), steps_(length / kSmall), response_(between(impulse, 2 * length, endOf(impulse, length)), length),
      window_(2 * length), heard_(2 * length), tail_(length), next_(length)
{}

void LongParts::reset() noexcept
{
    response_.reset();
    for (auto* numbers : {&window_, &heard_, &tail_, &next_}) std::ranges::fill(*numbers, 0.0f);
    step_ = 0;
}

std::size_t LongParts::addedBy(std::size_t step) const noexcept
{
    const std::size_t sharing = backStep() - forwardStep() - 1;
    return response_.chunks() * (std::clamp(step, forwardStep(), backStep() - 1) - forwardStep()) / sharing;
}

void LongParts::hear(std::span<const float> small) noexcept
{
    std::ranges::copy(small, window_.begin() + long(length_ + kSmall * step_));
    if (step_ == forwardStep()) response_.hear(heard_);
    if (step_ > forwardStep()) response_.add(addedBy(step_ - 1), addedBy(step_));
    if (step_ == backStep()) response_.finish(next_);
    if (++step_ < steps_) return;
    step_ = 0;
    tail_.swap(next_);
    std::ranges::copy(window_, heard_.begin());
    std::copy_n(window_.begin() + long(length_), length_, window_.begin());
}

void LongParts::addTo(std::span<float> small) const noexcept
{
    for (std::size_t i = 0; i < kSmall; ++i) small[i] += tail_[kSmall * step_ + i];
}

void LongParts::takeOver(const LongParts& before) noexcept
{
    response_.takeOver(before.response_);
    window_ = before.window_, heard_ = before.heard_; // as long: nothing is allocated
    step_ = before.step_;
    const bool hasHeard = step_ > forwardStep();
    response_.add(0, response_.chunks(), hasHeard ? 1 : 0);
    response_.finish(tail_);
    if (hasHeard) response_.add(0, addedBy(step_ - 1));
    if (step_ > backStep()) response_.finish(next_);
}

LiveConvolver::LiveConvolver(std::span<const float> impulse)
    : head_(kPart, 0.0f), near_(between(impulse, kPart, endOf(impulse, kPart)), kPart), history_(2 * kPart, 0.0f),
      tail_(kPart, 0.0f)
{
    std::copy_n(impulse.begin(), std::min(impulse.size(), kPart), head_.begin());
    for (const Longer& longer : kLonger)
        if (impulse.size() > longer.taps) far_.emplace_back(impulse, longer.length);
}

void LiveConvolver::reset() noexcept
{
    for (auto* numbers : {&history_, &tail_}) std::ranges::fill(*numbers, 0.0f);
    near_.reset();
    for (LongParts& far : far_) far.reset();
    filled_ = 0;
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
        for (LongParts& far : far_) far.hear(std::span(history_).last(kPart));
        makeTail();
    }
    std::copy_n(history_.begin() + kPart, kPart, history_.begin());
}

/// What the parts that were heard give to the one that is being filled.
void LiveConvolver::makeTail() noexcept
{
    near_.add(0, near_.chunks());
    near_.finish(tail_);
    for (const LongParts& far : far_) far.addTo(tail_);
}

void LiveConvolver::takeOver(const LiveConvolver& before) noexcept
{
    reset();
    near_.takeOver(before.near_);
    for (std::size_t i = 0; i < std::min(far_.size(), before.far_.size()); ++i) far_[i].takeOver(before.far_[i]);
    std::ranges::copy(before.history_, history_.begin());
    filled_ = before.filled_;
    if (near_.count() > 0) makeTail();
}

} // namespace gristle::core
