#include "support/clip_ways.h"

#include "core/audio/resampler.h"
#include "core/measure/level.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <random>

namespace gristle::test {

namespace {

using Samples = std::vector<float>;

Samples each(Samples x, const std::function<double(double)>& f)
{
    for (float& v : x) v = float(f(double(v)));
    return x;
}

Samples dithered(Samples x, double dbfs)
{
    std::mt19937 random(unsigned(x.size()));
    std::normal_distribution<double> noise(0.0, core::dbToAmplitude(dbfs));
    for (float& v : x) v += float(noise(random));
    return x;
}

/// A capacitor into a resistor.
Samples highPassed(Samples x, double hz, int rateHz)
{
    const double stays = std::exp(-2.0 * std::numbers::pi * hz / rateHz);
    double out = 0.0, before = 0.0;
    for (float& v : x) {
        out = stays * (out + double(v) - before);
        before = double(v);
        v = float(out);
    }
    return x;
}

/// Two poles of a resistor and a capacitor each.
Samples lowPassed(Samples x, double hz, int rateHz)
{
    const double moves = 1.0 - std::exp(-2.0 * std::numbers::pi * hz / rateHz);
    double one = 0.0, two = 0.0;
    for (float& v : x) {
        one += moves * (double(v) - one);
        two += moves * (one - two);
        v = float(two);
    }
    return x;
}

Samples thereAndBack(const Samples& x, int rateHz)
{
    core::Recording r{rateHz, core::AudioBuffer(1, x.size())};
    std::ranges::copy(x, r.audio.channel(0).begin());
    const auto back = core::resampled(core::resampled(r, rateHz == 44100 ? 48000 : 44100), rateHz);
    return {back.audio.channel(0).begin(), back.audio.channel(0).end()};
}

constexpr double kScale = 0.7; // of the ceiling, in the file

Samples hard(const Samples& x, double dB)
{
    const double gain = core::dbToAmplitude(dB);
    return each(x, [&](double v) { return kScale * std::clamp(gain * v, -1.0, 1.0); });
}

Samples knee(const Samples& x, double dB)
{
    constexpr double kFrom = 0.7; // straight so far
    const double gain = core::dbToAmplitude(dB);
    return each(x, [&](double v) {
        const double size = std::abs(gain * v);
        const double bent = size < kFrom ? size : kFrom + (1.0 - kFrom) * std::tanh((size - kFrom) / (1.0 - kFrom));
        return kScale * std::copysign(bent, v);
    });
}

Samples tanhOf(const Samples& x, double dB)
{
    const double gain = core::dbToAmplitude(dB);
    return each(x, [&](double v) { return kScale * std::tanh(gain * v); });
}

} // namespace

std::vector<ClipWay> clipWays()
{
    return {
        {"dither", false, [](const Samples& x, double dB, int) { return dithered(hard(x, dB), -96.0); }},
        {"high-pass 5 Hz", false, [](const Samples& x, double dB, int r) { return highPassed(hard(x, dB), 5.0, r); }},
        {"high-pass 20 Hz", false, [](const Samples& x, double dB, int r) { return highPassed(hard(x, dB), 20.0, r); }},
        {"two high-passes", false,
         [](const Samples& x, double dB, int r) { return highPassed(highPassed(hard(x, dB), 5.0, r), 16.0, r); }},
        {"low-pass 12 kHz", false, [](const Samples& x, double dB, int r) { return lowPassed(hard(x, dB), 12e3, r); }},
        {"resampled", false, [](const Samples& x, double dB, int r) { return thereAndBack(hard(x, dB), r); }},
        {"resampled, high-pass, dither", false,
         [](const Samples& x, double dB, int r) {
             return dithered(highPassed(thereAndBack(hard(x, dB), r), 10.0, r), -90.0);
         }},
        {"soft knee", true, [](const Samples& x, double dB, int) { return knee(x, dB); }},
        {"soft knee, high-pass", true,
         [](const Samples& x, double dB, int r) { return highPassed(knee(x, dB), 8.0, r); }},
        {"tanh", true, [](const Samples& x, double dB, int) { return tanhOf(x, dB); }},
    };
}

std::vector<ClipWay> cleanWays()
{
    return {
        {"as it is", false, [](const Samples& x, double, int) { return dithered(x, -96.0); }},
        {"high-pass", false, [](const Samples& x, double, int r) { return highPassed(x, 20.0, r); }},
        {"low-pass", false, [](const Samples& x, double, int r) { return lowPassed(x, 6e3, r); }},
        {"soft, with noise", false,
         [](const Samples& x, double, int r) {
             return dithered(highPassed(each(x, [](double v) { return 0.1 * v; }), 7.0, r), -90.0);
         }},
    };
}

core::HeldPeaks heldPeaksOf(const std::vector<float>& x, int rateHz)
{
    core::LevelMeter meter(rateHz, 1.0f, -1.0f);
    meter.push(x);
    const core::SampleSource source = [&](std::int64_t start, std::int64_t count) -> core::Result<std::vector<float>> {
        const auto from = x.begin() + start;
        return std::vector<float>(from, from + std::min(count, std::int64_t(x.size()) - start));
    };
    return core::heldPeaks(*core::loudestStretches(meter.blockPeaks(), rateHz, source), rateHz);
}

} // namespace gristle::test
