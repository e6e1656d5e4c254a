#include "core/sim/plucked_string.h"

#include "core/signal/biquad.h"
#include "core/signal/fractional_delay.h"
#include "core/signal/varying_delay.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <numbers>
#include <random>
#include <utility>

namespace gristle::core {

namespace {

constexpr double kPi = std::numbers::pi;
constexpr double kPickS = 0.0030; // contact of the pick
constexpr double kReleaseS = 0.04;
constexpr double kScrapeS = 0.006;
constexpr double kShortestDelay = VaryingDelay::kTaps / 2.0;
constexpr double kSecondPlaneDecay = 0.55; // of the first one's time: that way the bridge takes more

/// A one-pole loss filter in the loop, with its gain and delay at the fundamental.
struct Loss {
    double pole, gain, delaySamples;

    Loss(double hz, double t60S, double poleAt, double rateHz) : pole(poleAt)
    {
        const double w = 2.0 * kPi * hz / rateHz;
        const std::complex<double> h = response(w);
        gain = std::pow(10.0, -3.0 / (hz * t60S)) / std::abs(h);
        gain = std::min(gain, 0.99999);
        delaySamples = -std::arg(h) / w;
    }
    std::complex<double> response(double w) const { return (1.0 - pole) / (1.0 - pole * std::polar(1.0, -w)); }
    double delayAt(double w) const { return -std::arg(response(w)) / w; }
};

/// Stiffness: sections (a + z^-1) / (1 + a z^-1), a below 0, which hold low frequencies back longer.
class Dispersion {
public:
    static constexpr int kMostSections = 16;

    /// Fits `a` so that the loop's partials lie at n f_0 sqrt(1 + B n^2), the first one at `hz`: 16 sections come
    /// within 2 cents over the first 16 partials of guitar strings, fewer, on short strings, within 10.
    Dispersion(double hz, double inharmonicity, const Loss& loss, double rateHz)
    {
        if (inharmonicity <= 0.0) return;
        const double w = 2.0 * kPi * hz / rateHz, room = rateHz / hz - loss.delaySamples - kShortestDelay - 1.0;
        for (sections_ = kMostSections; sections_ > 0; sections_ /= 2) {
            a_ = -0.5;
            double best = misfit(hz, inharmonicity, loss, rateHz);
            for (double step = 0.2; step > 2e-4; step *= 0.5)
                for (bool moved = true; std::exchange(moved, false);)
                    for (const double by : {-step, step}) {
                        const double kept = std::exchange(a_, std::clamp(a_ + by, -0.97, 0.3));
                        const double now = misfit(hz, inharmonicity, loss, rateHz);
                        moved = moved || now < best;
                        if (now < best)
                            best = now;
                        else
                            a_ = kept;
                    }
            if (delayAt(w) <= room) return;
        }
    }
    double delayAt(double w) const { return sections_ * sectionDelay(a_, w); }
    double step(double x) noexcept
    {
        for (std::size_t s = 0; s < std::size_t(sections_); ++s) {
            const double y = a_ * x + state_[s];
            state_[s] = x - a_ * y;
            x = y;
        }
        return x;
    }

private:
    /// Phase delay of (a + z^-1) / (1 + a z^-1): the numerator turned about is the denominator.
    static double sectionDelay(double a, double w)
    {
        const std::complex<double> z1 = std::polar(1.0, -w);
        return -std::arg((a + z1) / (1.0 + a * z1)) / w;
    }
    /// How far the loop's partials are from where they should be: the squares of what each is off by, in parts of it.
    double misfit(double hz, double b, const Loss& loss, double rateHz) const
    {
        const double first = hz / std::sqrt(1.0 + b);
        const auto rest = [&](double w) { return delayAt(w) + loss.delayAt(w); };
        const double line = rateHz / hz - rest(2.0 * kPi * hz / rateHz);
        double sum = 0.0;
        for (int n = 2; n <= 24; ++n) {
            const double f = n * first * std::sqrt(1.0 + b * n * n);
            if (f > std::min(6000.0, 0.4 * rateHz)) break;
            const double error = (line + rest(2.0 * kPi * f / rateHz)) * f / rateHz / n - 1.0;
            sum += error * error;
        }
        return sum;
    }
    int sections_ = 0;
    double a_ = 0.0;
    std::array<double, kMostSections> state_{};
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

/// The pitch at every moment; asked with growing time.
class Travel {
public:
    explicit Travel(const std::vector<PitchPoint>& points) : points_(points) {}
    double centsAt(double seconds)
    {
        while (at_ < points_.size() && points_[at_].seconds <= seconds) ++at_;
        const PitchPoint before = at_ == 0 ? PitchPoint{} : points_[at_ - 1];
        if (at_ == points_.size()) return before.cents;
        const PitchPoint after = points_[at_];
        return before.cents +
               (after.cents - before.cents) * (seconds - before.seconds) / (after.seconds - before.seconds);
    }

private:
    const std::vector<PitchPoint>& points_;
    std::size_t at_ = 0;
};

/// One plane of the string, driven by the pick.
std::vector<float> vibrate(std::vector<float> x, const PluckedNote& note, double hz, double t60, double rateHz)
{
    const double period = rateHz / hz;
    const Loss loss(hz, t60, note.muted ? 0.4 : 0.12 + 0.16 * (1.0 - note.velocity), rateHz);
    Dispersion stiff(hz, note.inharmonicity, loss, rateHz);
    const double rest = loss.delaySamples + stiff.delayAt(2.0 * kPi * hz / rateHz);
    double lowest = 0.0;
    for (const PitchPoint& p : note.travel) lowest = std::min(lowest, p.cents);
    VaryingDelay line;
    line.prepare(period * std::exp2(-lowest / 1200.0) + 1.0);
    Travel travel(note.travel);
    std::mt19937 random(note.seed + 7u);
    std::normal_distribution<double> noise;
    double low = 0.0, delay = period - rest, before = 0.0;
    for (std::size_t i = 0; i < x.size(); ++i) {
        double rubbed = 0.0;
        if (!note.travel.empty()) {
            const double cents = travel.centsAt(double(i) / rateHz);
            delay = period * std::exp2(-cents / 1200.0) - rest;
            if (note.friction > 0.0 && cents != before) // louder the faster it slides
                rubbed =
                    note.friction * 0.02 * std::min(1.0, std::abs(cents - before) * rateHz / 4000.0) * noise(random);
            before = cents;
        }
        low = (1.0 - loss.pole) * line.read(delay) + loss.pole * low;
        x[i] += static_cast<float>(stiff.step(loss.gain * low) + rubbed);
        line.write(x[i]);
    }
    return x;
}

} // namespace

double inharmonicityOf(const StringMake& make, double lengthM) noexcept
{
    constexpr double kSteelPa = 200e9;
    const double d = make.coreMm * 1e-3;
    return kPi * kPi * kPi * kSteelPa * d * d * d * d / (64.0 * make.tensionN * lengthM * lengthM);
}

std::vector<float> pluck(const PluckedNote& note, double rateHz)
{
    const double held = note.seconds;
    const auto frames = static_cast<std::size_t>((held + kReleaseS) * rateHz);
    std::vector<float> picked(frames, 0.0f);
    // The pick: a half sine, shorter when hit harder, and a little scrape ahead of it.
    std::mt19937 random(note.seed);
    std::normal_distribution<double> noise;
    const auto contact = static_cast<std::size_t>(kPickS * (1.6 - 0.8 * note.velocity) * rateHz) + 2;
    for (std::size_t i = 0; i < std::min(contact, frames); ++i)
        picked[i] =
            static_cast<float>(note.velocity * (std::sin(kPi * double(i) / double(contact)) + 0.08 * noise(random)));

    const double period = rateHz / note.hz;
    picked = comb(std::move(picked), note.pickAt * period);
    // Low strings ring longer than high ones; a muted string half a second.
    const double t60 = note.muted ? 0.5 : 7.0 * std::pow(82.4 / note.hz, 0.6);
    std::vector<float> out = vibrate(picked, note, note.hz, t60, rateHz);
    if (note.secondPlane > 0.0) {
        const double hz = note.hz * std::exp2(note.planeSplitCents / 1200.0);
        const auto along = vibrate(std::move(picked), note, hz, t60 * kSecondPlaneDecay, rateHz);
        for (std::size_t i = 0; i < frames; ++i) out[i] += static_cast<float>(note.secondPlane) * along[i];
    }
    out = comb(std::move(out), note.pickupAt * period);
    const auto release = static_cast<std::size_t>(kReleaseS * rateHz);
    for (std::size_t i = 0; i < release && i < frames; ++i)
        out[frames - 1 - i] *= static_cast<float>(0.5 - 0.5 * std::cos(kPi * double(i) / double(release)));
    return out;
}

std::vector<float> scrape(const PluckedNote& note, double amount, double rateHz)
{
    std::vector<float> out(static_cast<std::size_t>(kScrapeS * rateHz), 0.0f);
    std::mt19937 random(note.seed + 13u);
    std::normal_distribution<double> noise;
    Biquad top(highPass(2200.0, 0.7071, rateHz)), end(lowPass(std::min(7000.0, 0.45 * rateHz), 0.7071, rateHz));
    for (std::size_t i = 0; i < out.size(); ++i) {
        const double grows = double(i) / double(out.size());
        out[i] = static_cast<float>(end.step(top.step(0.05 * amount * note.velocity * grows * grows * noise(random))));
    }
    return out;
}

} // namespace gristle::core
