#include "core/impulse/capture_set.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kLeadS = 0.001;

} // namespace

bool CapturedSet::isAnyGood() const noexcept
{
    return std::ranges::any_of(each, [](const auto& c) { return bool(c); });
}

Recording CapturedSet::mix() const
{
    Recording out;
    for (const auto& c : each) {
        if (!c) continue;
        const auto x = c->impulse.audio.channel(0);
        if (out.audio.frames() == 0) out = Recording{c->impulse.sampleRateHz, AudioBuffer(1, x.size())};
        const auto sum = out.audio.channel(0);
        for (std::size_t i = 0; i < std::min(sum.size(), x.size()); ++i) sum[i] += x[i];
    }
    return out;
}

Result<CapturedSet> captureSet(std::span<const float> sweep, const std::vector<std::vector<float>>& recordings,
                               int rateHz, const CaptureOptions& options)
{
    CapturedSet out;
    CaptureOptions own = options;
    own.keepDelay = true;
    own.minimumPhase = false; // it would take away what lies between them
    double first = 1e18;
    for (const auto& recording : recordings) {
        out.each.push_back(capture(sweep, recording, rateHz, own));
        if (!out.each.back() && out.each.back().error().code == ErrorCode::Usage) return out.each.back().error();
        if (out.each.back()) first = std::min(first, out.each.back()->arrivalSamples);
    }
    if (!out.isAnyGood()) return out;
    out.firstArrivalSamples = first;
    const auto from = std::size_t(std::max(0.0, first - std::round(kLeadS * rateHz)));
    const auto frames = std::size_t(std::llround((kLeadS + options.lengthS) * rateHz));
    for (auto& c : out.each) {
        if (!c) continue;
        const auto x = std::as_const(c->impulse.audio).channel(0);
        Recording cut{rateHz, AudioBuffer(1, frames)};
        const auto into = cut.audio.channel(0);
        for (std::size_t i = 0; i < frames && from + i < x.size(); ++i) into[i] = x[from + i];
        c->impulse = std::move(cut);
    }
    return out;
}

} // namespace gristle::core
