#include "core/signal/parted_response.h"

#include "core/units/vectorised.h"

#include <algorithm>

namespace gristle::core {

namespace {

/// Adds products of `count` spectra to a sum, of a chunk of bins.
GRISTLE_VECTORISED
void addProducts(const float* a, const float* b, std::size_t count, float* sum)
{
    constexpr std::size_t kLanes = SkewFft::kChunk / kFloatLane;
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

} // namespace

void PartedResponse::Spectra::put(std::size_t chunk, std::size_t which, std::span<const float> spectrum) noexcept
{
    std::ranges::copy(spectrum.subspan(chunk * kFloats, kFloats), at(chunk, which));
}

PartedResponse::PartedResponse(std::span<const float> taps, std::size_t length)
    : fft_(length), response_(length, (taps.size() + length - 1) / length), heard_(length, response_.count + 1),
      fresh_(2 * length), sum_(2 * length)
{
    std::vector<float> part(length);
    const std::vector<float> nothing(length);
    for (std::size_t p = 0; p < count(); ++p) {
        std::ranges::fill(part, 0.0f);
        std::ranges::transform(taps.subspan(p * length, std::min(length, taps.size() - p * length)), part.begin(),
                               [&](float x) { return x / float(length); });
        fft_.split(part, nothing);
        fft_.evaluate(fresh_.data());
        for (std::size_t chunk = 0; chunk < chunks(); ++chunk) response_.put(chunk, p, fresh_);
    }
    std::ranges::fill(fresh_, 0.0f);
}

void PartedResponse::split(std::span<const float> before, std::span<const float> last) noexcept
{
    fft_.split(before, last);
}

void PartedResponse::hear() noexcept
{
    newest_ = newest_ == 0 ? heard_.count - 1 : newest_ - 1;
    fft_.evaluate(fresh_.data());
}

void PartedResponse::add(std::size_t from, std::size_t to, std::size_t ago) noexcept
{
    const std::size_t at = (newest_ + ago) % heard_.count, n = std::min(count(), heard_.count - at);
    for (std::size_t chunk = from; chunk < to; ++chunk) {
        if (ago == 0) heard_.put(chunk, newest_, fresh_);
        float* const sum = &sum_[chunk * kFloats]; // up to the end of the ring, then from its start
        addProducts(response_.at(chunk, 0), heard_.at(chunk, at), n, sum);
        if (n < count()) addProducts(response_.at(chunk, n), heard_.at(chunk, 0), count() - n, sum);
    }
}

void PartedResponse::interpolate() noexcept
{
    fft_.interpolate(sum_.data());
    std::ranges::fill(sum_, 0.0f);
}

void PartedResponse::finish(std::span<float> out) noexcept { fft_.join(out); }

void PartedResponse::reset() noexcept
{
    for (auto* numbers : {&heard_.numbers, &fresh_, &sum_}) std::ranges::fill(*numbers, 0.0f);
    newest_ = 0;
}

void PartedResponse::takeOver(const PartedResponse& before) noexcept
{
    reset();
    for (std::size_t p = 0; p < std::min(heard_.count, before.heard_.count); ++p) // the last one first
        for (std::size_t chunk = 0; chunk < chunks(); ++chunk)
            std::copy_n(before.heard_.at(chunk, (before.newest_ + p) % before.heard_.count), kFloats,
                        heard_.at(chunk, p));
    std::ranges::copy(before.fresh_, fresh_.begin());
}

} // namespace gristle::core
