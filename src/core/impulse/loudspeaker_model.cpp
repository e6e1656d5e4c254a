#include "core/impulse/loudspeaker_model.h"

#include "core/measure/loudness.h"
#include "core/signal/biquad.h"
#include "core/signal/convolver.h"
#include "core/units/decibels.h"

#include <cmath>
#include <complex>
#include <numbers>
#include <random>

namespace gristle::core {

namespace {

/// Pink noise of a fixed seed: white noise through Kellet's published three-pole weighting (economy form).
std::vector<float> pinkNoise(std::size_t frames)
{
    std::minstd_rand random(7);
    std::vector<float> out(frames);
    double b0 = 0, b1 = 0, b2 = 0;
    for (float& x : out) {
        const double white = double(random()) / double(std::minstd_rand::max()) * 2.0 - 1.0;
        b0 = 0.99765 * b0 + white * 0.0990460;
        b1 = 0.96300 * b1 + white * 0.2965164;
        b2 = 0.57000 * b2 + white * 1.0526913;
        x = static_cast<float>(0.05 * (b0 + b1 + b2 + white * 0.1848));
    }
    return out;
}

} // namespace

Recording loudspeakerImpulse(const LoudspeakerShape& shape, int rateHz)
{
    const auto length = static_cast<std::size_t>(std::llround(2048.0 * rateHz / 48000.0));
    Recording out{rateHz, AudioBuffer(1, length)};
    const auto x = out.audio.channel(0);
    x[0] = 1.0f;
    const double rate = rateHz;
    const double top = std::min(shape.topHz, 0.4 * rate);
    for (const auto& section : {highPass(shape.boxHz, shape.boxQ, rate), bell(450.0, shape.bodyDb, 0.9, rate),
                                bell(std::min(shape.presenceHz, 0.4 * rate), shape.presenceDb, 1.3, rate),
                                bell(std::min(3900.0, 0.42 * rate), -4.0, 5.0, rate), bell(1350.0, 2.0, 4.0, rate),
                                lowPass(top, 1.30656, rate), lowPass(top, 0.54120, rate)}) // Butterworth, 4th order
        Biquad(section).process(x);
    std::complex<double> at1k = 0.0;
    for (std::size_t i = 0; i < length; ++i)
        at1k += double(x[i]) * std::polar(1.0, -2.0 * std::numbers::pi * 1000.0 * double(i) / rate);
    for (std::size_t i = 0; i < length; ++i) {
        const double left = double(length - 1 - i) / (0.25 * double(length));
        const double fade = left >= 1.0 ? 1.0 : 0.5 - 0.5 * std::cos(std::numbers::pi * left);
        x[i] = static_cast<float>(double(x[i]) * fade / std::abs(at1k));
    }
    return out;
}

double matchedGainDb(const Recording& impulse)
{
    const auto frames = static_cast<std::size_t>(5 * impulse.sampleRateHz);
    const auto dry = pinkNoise(frames);
    AudioBuffer before(1, frames), after(impulse.audio.channels(), frames);
    std::copy(dry.begin(), dry.end(), before.channel(0).begin());
    for (std::size_t c = 0; c < after.channels(); ++c) {
        const auto wet = convolve(dry, impulse.audio.channel(c));
        std::copy_n(wet.begin(), frames, after.channel(c).begin());
    }
    const auto a = integratedLoudness(before, impulse.sampleRateHz),
               b = integratedLoudness(after, impulse.sampleRateHz);
    return a && b ? *a - *b : 0.0;
}

} // namespace gristle::core
