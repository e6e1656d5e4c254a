#include "core/measure/loudness.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kAbsoluteGateLufs = -70.0; // BS.1770-4
constexpr double kRelativeGateLu = -10.0;   // BS.1770-4
constexpr double kRangeGateLu = -20.0;      // EBU Tech 3342
constexpr std::size_t kMomentaryHops = 40;  // 400 ms
constexpr std::size_t kShortTermHops = 300; // 3 s
constexpr std::size_t kGateStepHops = 10;   // 75 % overlap of 400 ms
constexpr std::size_t kRangeStepHops = 100; // 1 s: overlap of two thirds, the least that Tech 3342 allows

double lufsToPower(double lufs) { return std::pow(10.0, (lufs + 0.691) / 10.0); }

/// Mean over windows of `length` hops, one every `step`.
std::vector<double> windowMeans(std::span<const double> hops, std::size_t length, std::size_t step)
{
    std::vector<double> means;
    if (hops.size() < length) return means;
    std::vector<double> sums(hops.size() + 1, 0.0);
    for (std::size_t i = 0; i < hops.size(); ++i) sums[i + 1] = sums[i] + hops[i];
    means.reserve((hops.size() - length) / step + 1);
    for (std::size_t i = 0; i + length <= hops.size(); i += step)
        means.push_back(std::max(0.0, sums[i + length] - sums[i]) / double(length));
    return means;
}

/// Mean of the values that are not below `gate`, none where there are none.
std::optional<double> meanAbove(const std::vector<double>& values, double gate)
{
    double sum = 0.0;
    std::size_t count = 0;
    for (const double v : values) {
        if (v < gate) continue;
        sum += v;
        ++count;
    }
    if (count == 0) return std::nullopt;
    return sum / double(count);
}

std::optional<double> maxLufs(const std::vector<double>& means)
{
    const auto top = std::ranges::max_element(means);
    if (top == means.end() || !(*top > 0.0)) return std::nullopt;
    return LoudnessMeter::toLufs(*top);
}

std::optional<double> range(const std::vector<double>& shortTerm)
{
    const auto ungated = meanAbove(shortTerm, lufsToPower(kAbsoluteGateLufs));
    if (!ungated) return std::nullopt;
    const double gate = std::max(lufsToPower(kAbsoluteGateLufs), *ungated * std::pow(10.0, kRangeGateLu / 10.0));
    std::vector<double> kept;
    for (const double v : shortTerm)
        if (v >= gate) kept.push_back(v);
    std::ranges::sort(kept);
    // Tech 3342: the 10th and the 95th percentile, at the nearest rank.
    const auto at = [&](double part) { return kept[std::size_t(std::llround(double(kept.size() - 1) * part))]; };
    return powerToDb(at(0.95)) - powerToDb(at(0.10));
}

} // namespace

KWeighting::KWeighting(double rateHz)
{
    // Analogue prototypes behind the 48 kHz coefficients of BS.1770-4, tables 1 and 2.
    {
        constexpr double f0 = 1681.974450955533, gainDb = 3.999843853973347, q = 0.7071752369554196;
        const double k = std::tan(std::numbers::pi * f0 / rateHz);
        const double vh = std::pow(10.0, gainDb / 20.0);
        const double vb = std::pow(vh, 0.4996667741545416);
        const double a0 = 1.0 + k / q + k * k;
        shelf_.set({(vh + vb * k / q + k * k) / a0, 2.0 * (k * k - vh) / a0, (vh - vb * k / q + k * k) / a0,
                    2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0});
    }
    {
        constexpr double f0 = 38.13547087602444, q = 0.5003270373238773;
        const double k = std::tan(std::numbers::pi * f0 / rateHz);
        const double a0 = 1.0 + k / q + k * k;
        // The standard's high pass has the numerator 1, -2, 1 as it stands.
        high_.set({1.0, -2.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0});
    }
}

double KWeighting::energy(std::span<const float> mono) noexcept
{
    Biquad shelf = shelf_, high = high_; // in registers while the loop runs
    double sum = 0.0;
    for (const float x : mono) {
        const double y = high.step(shelf.step(double(x)));
        sum += y * y;
    }
    shelf_ = shelf;
    high_ = high;
    return sum;
}

LoudnessMeter::LoudnessMeter(double rateHz, const std::vector<ChannelRole>& roles) : rateHz_(rateHz)
{
    for (const ChannelRole role : roles) {
        weights_.push_back(role == ChannelRole::Surround ? 1.41 : role == ChannelRole::LowFrequency ? 0.0 : 1.0);
        filters_.emplace_back(rateHz);
    }
}

std::int64_t LoudnessMeter::hopEnd() const noexcept { return std::llround(double(hops_.size() + 1) * rateHz_ * kHopS); }

void LoudnessMeter::push(const std::vector<std::span<const float>>& channels)
{
    const std::size_t frames = channels.empty() ? 0 : channels[0].size();
    for (std::size_t at = 0; at < frames;) {
        const std::int64_t end = hopEnd();
        const auto take = static_cast<std::size_t>(std::min<std::int64_t>(std::int64_t(frames - at), end - frames_));
        for (std::size_t c = 0; c < channels.size(); ++c)
            if (weights_[c] > 0.0) open_ += weights_[c] * filters_[c].energy(channels[c].subspan(at, take));
        frames_ += std::int64_t(take);
        at += take;
        if (frames_ == end) {
            hops_.push_back(open_ / double(end - hopStart_));
            hopStart_ = end;
            open_ = 0.0;
        }
    }
}

LoudnessResult LoudnessMeter::result() const
{
    LoudnessResult out;
    const auto gating = windowMeans(hops_, kMomentaryHops, kGateStepHops);
    if (const auto absolute = meanAbove(gating, lufsToPower(kAbsoluteGateLufs))) {
        const double relative = *absolute * std::pow(10.0, kRelativeGateLu / 10.0);
        if (const auto mean = meanAbove(gating, std::max(relative, lufsToPower(kAbsoluteGateLufs))))
            out.integratedLufs = toLufs(*mean);
    }
    out.momentaryMaxLufs = maxLufs(windowMeans(hops_, kMomentaryHops, 1));
    out.shortTermMaxLufs = maxLufs(windowMeans(hops_, kShortTermHops, 1));
    out.rangeLu = range(windowMeans(hops_, kShortTermHops, kRangeStepHops));
    return out;
}

std::optional<double> integratedLoudness(const AudioBuffer& audio, double rateHz)
{
    LoudnessMeter meter(rateHz, std::vector<ChannelRole>(audio.channels(), ChannelRole::Plain));
    std::vector<std::span<const float>> channels;
    for (std::size_t c = 0; c < audio.channels(); ++c) channels.push_back(audio.channel(c));
    meter.push(channels);
    return meter.result().integratedLufs;
}

} // namespace gristle::core
