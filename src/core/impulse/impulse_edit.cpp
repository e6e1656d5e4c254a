#include "core/impulse/impulse_edit.h"

#include "core/impulse/loudspeaker_model.h"
#include "core/signal/fft.h"
#include "core/signal/matched_filters.h"
#include "core/signal/minimum_phase.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kLeadS = 0.001;
constexpr double kAirHz = 9000.0;
constexpr double kButterworth = std::numbers::sqrt2 / 2.0;

Outcome check(const ImpulseEdit& e, int rateHz)
{
    const auto bad = [](std::string what, std::string range) {
        return Error{ErrorCode::Usage, "impulse: " + std::move(what), std::move(range)};
    };
    const double top = 0.45 * rateHz;
    if (e.lengthMs != 0.0 && !(e.lengthMs >= 5.0 && e.lengthMs <= 20000.0))
        return bad(fmt::format("{:g} ms is no length for it", e.lengthMs), "choose 5 ms to 20 s, or 0 to leave it");
    for (const double hz : {e.lowCutHz, e.highCutHz})
        if (hz != 0.0 && !(hz >= 20.0 && hz <= top))
            return bad(fmt::format("a cut at {:g} Hz is out of range", hz),
                       fmt::format("choose 20 to {:.0f} Hz, or 0 for none", top));
    if (!(std::abs(e.airDb) <= 12.0))
        return bad(fmt::format("{:g} dB of air is too much", e.airDb), "choose -12 to 12 dB");
    return Done{};
}

/// Of the same magnitudes, as early as they allow.
std::vector<float> earliest(std::span<const float> taps, int rateHz)
{
    RealFft fft(fastFftSize(4 * taps.size()));
    std::ranges::fill(fft.time(), 0.0f);
    std::ranges::copy(taps, fft.time().begin());
    fft.forward();
    const auto gainAt = [&](double hz) {
        const double at = std::clamp(hz * double(fft.size()) / rateHz, 0.0, double(fft.spectrum().size() - 1));
        return double(std::abs(fft.spectrum()[std::size_t(std::llround(at))]));
    };
    return minimumPhase(gainAt, rateHz, taps.size());
}

} // namespace

Result<EditedImpulse> editImpulse(const Recording& impulse, const ImpulseEdit& edit)
{
    const int rate = impulse.sampleRateHz;
    if (const auto good = check(edit, rate); !good) return good.error();
    std::size_t arrival = impulse.audio.frames(), frames = impulse.audio.frames();
    for (std::size_t c = 0; c < impulse.audio.channels(); ++c) {
        Recording side{rate, AudioBuffer(1, frames)};
        std::ranges::copy(impulse.audio.channel(c), side.audio.channel(0).begin());
        const auto info = impulseInfo(side);
        if (!info && impulse.audio.channels() == 1) return info.error();
        if (info) arrival = std::min(arrival, std::size_t(info->arrivalSamples));
    }
    if (arrival == frames) return impulseInfo(impulse).error();
    EditedImpulse out;
    const auto lead = std::size_t(std::llround(kLeadS * rate));
    const std::size_t from = edit.trim && arrival > lead ? arrival - lead : 0;
    std::size_t end = frames;
    if (edit.lengthMs > 0.0) end = std::min(end, arrival + std::size_t(std::llround(0.001 * edit.lengthMs * rate)));
    // The fade is as long as a third of what stays, so that what is cut off leaves no ripple at low frequency.
    const std::size_t fade = end < frames ? (end - std::min(end, arrival)) / 3 : 0;
    out.impulse = Recording{rate, AudioBuffer(impulse.audio.channels(), end - from)};
    for (std::size_t c = 0; c < impulse.audio.channels(); ++c) {
        const auto before = impulse.audio.channel(c);
        std::vector<float> x(before.begin() + long(from), before.begin() + long(end));
        for (std::size_t i = 0; i < fade; ++i)
            x[x.size() - 1 - i] *= float(0.5 - 0.5 * std::cos(std::numbers::pi * (double(i) + 0.5) / double(fade)));
        if (fade > 0) {
            const auto whole = smoothedResponse(before, rate), kept = smoothedResponse(x, rate);
            for (std::size_t i = 0; i < whole.size() && whole[i].hz < 2000.0; ++i)
                if (std::abs(whole[i].db - kept[i].db) > 1.0) out.keptFromHz = std::max(out.keptFromHz, kept[i + 1].hz);
        }
        if (edit.minimumPhase) x = earliest(x, rate);
        if (edit.lowCutHz > 0.0) Biquad(highPass(edit.lowCutHz, kButterworth, rate)).process(x);
        if (edit.highCutHz > 0.0) Biquad(matchedLowPass(edit.highCutHz, kButterworth, rate)).process(x);
        if (edit.airDb != 0.0) Biquad(matchedHighShelf(std::min(kAirHz, 0.45 * rate), edit.airDb, rate)).process(x);
        std::ranges::copy(x, out.impulse.audio.channel(c).begin());
    }
    if (edit.match) {
        out.gainDb = matchedGainDb(out.impulse);
        for (std::size_t c = 0; c < out.impulse.audio.channels(); ++c)
            for (float& v : out.impulse.audio.channel(c)) v = float(double(v) * dbToAmplitude(out.gainDb));
    }
    return out;
}

} // namespace gristle::core
