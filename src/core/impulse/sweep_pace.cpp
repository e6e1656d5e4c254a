#include "core/impulse/sweep_pace.h"

#include "core/audio/resampler.h"
#include "core/signal/fft.h"
#include "core/signal/minimum_phase.h"
#include "core/timing/alignment.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

namespace gristle::core {

namespace {

using Complex = std::complex<double>;
constexpr double kPi = std::numbers::pi;
constexpr double kLowHz = 150.0; // below, rooms and boxes turn the phase by themselves

std::vector<Complex> spectrumOf(std::span<const float> x, std::size_t n)
{
    RealFft fft(n);
    std::ranges::fill(fft.time(), 0.0f);
    std::ranges::copy(x, fft.time().begin());
    fft.forward();
    return {fft.spectrum().begin(), fft.spectrum().end()};
}

} // namespace

Pace paceOf(std::span<const float> response, const SweepSettings& s, double mostPpm)
{
    const std::size_t n = fastFftSize(2 * response.size());
    const auto found = spectrumOf(response, n);
    // Beyond the sweep's band its magnitudes are thought on by their slope there: a band that ends turns no phase.
    const double low = 1.7 * s.fromHz, top = std::min(s.toHz, 0.47 * s.rateHz) / 1.15;
    const auto around = [&](double hz) {
        double sum = 0.0;
        const double perHz = double(n) / s.rateHz;
        const auto from = std::size_t(hz / 1.03 * perHz),
                   to = std::min(found.size(), std::size_t(hz * 1.03 * perHz) + 2);
        for (std::size_t k = from; k < to; ++k) sum += std::norm(found[k]);
        return std::sqrt(sum / double(to - from));
    };
    const double atLow = around(low), atTop = around(top);
    const double slopeLow = std::log(around(1.4 * low) / atLow) / std::log(1.4),
                 slopeTop = std::log(atTop / around(top / 1.4)) / std::log(1.4);
    const auto gainAt = [&](double hz) {
        if (hz < low) return atLow * std::pow(hz / low, slopeLow);
        if (hz > top) return atTop * std::pow(hz / top, slopeTop);
        return std::abs(found[std::min(found.size() - 1, std::size_t(std::llround(hz * double(n) / s.rateHz)))]);
    };
    const auto least = spectrumOf(minimumPhase(gainAt, s.rateHz, n / 2), n);
    // What remains of the phase, each frequency by its share of the power in its octave, so that the whole band counts.
    const double counts = top / 1.15;
    std::vector<Complex> rest(found.size());
    std::vector<double> passes(found.size()); // when, s
    for (std::size_t k = 1; k < found.size(); ++k) {
        const double hz = double(k) * s.rateHz / double(n);
        passes[k] = s.riseS() * std::log(hz / s.fromHz);
        if (hz < std::max(kLowHz, 1.5 * s.fromHz) || hz > counts) continue;
        rest[k] = found[k] * std::conj(least[k]) / std::sqrt(hz);
    }
    RealFft fft(8 * n); // so that a peak between samples is as high as one on a sample
    const auto highest = [&](double ppm) {
        std::ranges::fill(fft.spectrum(), std::complex<float>());
        for (std::size_t k = 0; k < rest.size(); ++k) {
            const double hz = double(k) * s.rateHz / double(n);
            fft.spectrum()[k] = std::complex<float>(rest[k] * std::polar(1.0, 2.0 * kPi * hz * 1e-6 * ppm * passes[k]));
        }
        fft.inverse();
        float best = 0.0f;
        for (const float v : fft.time()) best = std::max(best, std::abs(v));
        return double(best);
    };
    // The peak is as wide as a turn over the top octave's passing; it is searched in steps of a part of that.
    const double step = 0.15e6 / (counts * s.riseS());
    double at = 0.0, best = highest(0.0);
    for (double ppm = -mostPpm; ppm <= mostPpm; ppm += step)
        if (const double h = highest(ppm); h > best) best = h, at = ppm;
    for (double width = step; width > 0.0005 * step; width *= 0.5)
        for (const double ppm : {at - 0.5 * width, at + 0.5 * width})
            if (const double h = highest(ppm); h > best) best = h, at = ppm;
    // A turn of a tenth over the octaves that count most is not told from the system's own.
    return {at, std::max(2.0, 0.3 * step)};
}

Pace paceOfRepeats(std::span<const float> recording, std::size_t length, std::span<const std::size_t> starts,
                   int rateHz)
{
    // The line through the delays of each against the first.
    constexpr double kMostPart = 0.0012;
    double sumXY = 0.0, sumXX = 0.0;
    const auto piece = [&](std::size_t i) {
        const std::size_t from = std::min(starts[i], recording.size());
        return recording.subspan(from, std::min(length, recording.size() - from));
    };
    for (std::size_t i = 1; i < starts.size(); ++i) {
        const double apart = double(starts[i] - starts[0]);
        const double most = std::max(1.0, kMostPart * 1000.0 * apart / rateHz);
        const auto met = alignTo(piece(0), piece(i), rateHz, most);
        if (!met) continue;
        sumXY += met->delaySamples * apart, sumXX += apart * apart;
    }
    return {sumXX > 0.0 ? 1e6 * sumXY / sumXX : 0.0, 0.1};
}

std::vector<float> atPace(std::span<const float> recording, double ppm)
{
    constexpr int kScale = 1000000000;
    Resampler resampler(int(std::llround(kScale * (1.0 + 1e-6 * ppm))), kScale);
    std::vector<float> out;
    resampler.push(recording, out);
    resampler.finish(out);
    return out;
}

} // namespace gristle::core
