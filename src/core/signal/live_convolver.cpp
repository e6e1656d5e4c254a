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
constexpr Longer kLonger[]{{2048, 256}, {4096, 1024}};

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

LongParts::LongParts(std::span<const float> impulse, std::size_t length)
    : length_(length), steps_(length / kSmall), response_(between(impulse, 2 * length, endOf(impulse, length)), length),
      tail_(length), next_(length)
{
    for (auto& part : parts_) part.resize(length);
}

void LongParts::reset() noexcept
{
    response_.reset();
    for (auto* numbers : {&parts_[0], &parts_[1], &parts_[2], &tail_, &next_}) std::ranges::fill(*numbers, 0.0f);
    step_ = filling_ = 0;
}

std::size_t LongParts::addedBy(std::size_t step) const noexcept
{
    return response_.chunks() * (std::clamp(step + 1, firstAdd(), endAdd()) - firstAdd()) / (endAdd() - firstAdd());
}

void LongParts::split() noexcept { response_.split(parts_[(filling_ + 1) % 3], parts_[(filling_ + 2) % 3]); }

void LongParts::hear(std::span<const float> small) noexcept
{
    std::ranges::copy(small, parts_[filling_].begin() + long(kSmall * step_));
    if (step_ == 0) split();
    if (step_ + 1 == firstAdd()) response_.hear();
    if (step_ >= firstAdd()) response_.add(addedBy(step_ - 1), addedBy(step_));
    if (step_ == endAdd()) response_.interpolate();
    if (step_ + 1 == steps_) response_.finish(next_);
    if (++step_ < steps_) return;
    step_ = 0;
    tail_.swap(next_);
    filling_ = (filling_ + 1) % 3;
}

void LongParts::addTo(std::span<float> small) const noexcept
{
    for (std::size_t i = 0; i < kSmall; ++i) small[i] += tail_[kSmall * step_ + i];
}

void LongParts::takeOver(const LongParts& before) noexcept
{
    response_.takeOver(before.response_);
    for (std::size_t i = 0; i < 3; ++i) std::ranges::copy(before.parts_[i], parts_[i].begin());
    filling_ = before.filling_, step_ = before.step_;
    const bool hasHeard = step_ >= firstAdd();
    response_.add(0, response_.chunks(), hasHeard ? 1 : 0);
    response_.interpolate();
    response_.finish(tail_);
    if (step_ > 0 && !hasHeard) split();
    if (hasHeard) response_.add(0, addedBy(step_ - 1));
    if (step_ > endAdd()) response_.interpolate();
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
        near_.split(std::span(history_).first(kPart), std::span(history_).last(kPart));
        near_.hear();
        for (LongParts& far : far_) far.hear(std::span(history_).last(kPart));
        makeTail();
    }
    std::copy_n(history_.begin() + kPart, kPart, history_.begin());
}

/// What the parts that were heard give to the one that is being filled.
void LiveConvolver::makeTail() noexcept
{
    near_.add(0, near_.chunks());
    near_.interpolate();
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
