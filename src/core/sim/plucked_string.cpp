#include "core/sim/plucked_string.h"

#include "core/signal/fractional_delay.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <random>

namespace gristle::core {

namespace {

constexpr double kPi = std::numbers::pi;
constexpr double kPickS = 0.0030; // contact of the pick
constexpr double kReleaseS = 0.04;

/// A one-pole loss filter in the loop, with its gain and delay at the fundamental.
struct Loss {
    double pole, gain, delaySamples;

    Loss(double hz, double t60S, double poleAt, double rateHz) : pole(poleAt)
    {
        const double w = 2.0 * kPi * hz / rateHz;
        const std::complex<double> h = (1.0 - pole) / (1.0 - pole * std::polar(1.0, -w));
        gain = std::pow(10.0, -3.0 / (hz * t60S)) / std::abs(h);
        gain = std::min(gain, 0.99999);
        delaySamples = -std::arg(h) / w;
    }
};

std::vector<float> comb(std::vector<float> x, double delaySamples)
{
    FractionalDelay line;
    line.prepare(std::max(delaySamples, 16.0));
    for (float& v : x) {
        const auto late = static_cast<float>(line.read());
        line.write(v);
        v -= late;
    }
    return x;
}

} // namespace

std::vector<float> pluck(const PluckedNote& note, double rateHz)
{
    const double held = note.seconds;
    const auto frames = static_cast<std::size_t>((held + kReleaseS) * rateHz);
    std::vector<float> out(frames, 0.0f);
    // The pick: a half sine, shorter when hit harder, and a little scrape ahead of it.
    std::mt19937 random(note.seed);
    std::normal_distribution<double> noise;
    const auto contact = static_cast<std::size_t>(kPickS * (1.6 - 0.8 * note.velocity) * rateHz) + 2;
    for (std::size_t i = 0; i < std::min(contact, frames); ++i)
        out[i] =
            static_cast<float>(note.velocity * (std::sin(kPi * double(i) / double(contact)) + 0.08 * noise(random)));

    const double period = rateHz / note.hz;
    out = comb(std::move(out), note.pickAt * period);
    // Low strings ring longer than high ones; a muted string half a second.
    const double t60 = note.muted ? 0.5 : 7.0 * std::pow(82.4 / note.hz, 0.6);
    const Loss loss(note.hz, t60, note.muted ? 0.4 : 0.12 + 0.16 * (1.0 - note.velocity), rateHz);
    FractionalDelay line;
    line.prepare(period - loss.delaySamples);
    double low = 0.0;
    for (float& v : out) {
        low = (1.0 - loss.pole) * line.read() + loss.pole * low;
        v += static_cast<float>(loss.gain * low);
        line.write(v);
    }
    out = comb(std::move(out), note.pickupAt * period);
    const auto release = static_cast<std::size_t>(kReleaseS * rateHz);
    for (std::size_t i = 0; i < release && i < frames; ++i)
        out[frames - 1 - i] *= static_cast<float>(0.5 - 0.5 * std::cos(kPi * double(i) / double(release)));
    return out;
}

} // namespace gristle::core
