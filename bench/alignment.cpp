// How near alignment comes to what is possible: `bench/alignment`

#include "core/timing/alignment.h"
#include "core/signal/biquad.h"
#include "core/signal/fft.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <random>

using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0, kPi = std::numbers::pi;
constexpr std::size_t kFrames = 240000;

std::vector<float> guitar(unsigned seed, const std::vector<WrittenNote>& part)
{
    PlayingStyle style;
    style.seed = seed;
    style.leadInS = 0.2;
    auto out = perform(part, 110.0, standardTuning(), style, kRate).volts;
    out.resize(kFrames);
    return out;
}

/// Later by any part of a sample, by the phase of one transform over all.
std::vector<float> later(const std::vector<float>& x, double samples, double sign = 1.0)
{
    RealFft fft(fastFftSize(x.size() + 8192));
    std::ranges::fill(fft.time(), 0.0f);
    std::ranges::copy(x, fft.time().begin());
    fft.forward();
    for (std::size_t k = 0; k < fft.spectrum().size(); ++k)
        fft.spectrum()[k] *= std::complex<float>(
            std::polar(sign / double(fft.size()), -2.0 * kPi * double(k) * samples / double(fft.size())));
    fft.inverse();
    return {fft.time().begin(), fft.time().begin() + long(x.size())};
}

double rms(const std::vector<float>& x)
{
    double sum = 0.0;
    for (const float v : x) sum += double(v) * double(v);
    return std::sqrt(sum / double(x.size()));
}

std::vector<float> noisy(std::vector<float> x, double sigma, unsigned seed)
{
    std::mt19937 random(seed);
    std::normal_distribution<double> normal(0.0, sigma);
    for (float& v : x) v += float(normal(random));
    return x;
}

/// The Cramer-Rao bound, samples, with white noise in both: Knapp and Carter 1976, by the periodogram of the clean
/// signal, smoothed over `around` bins as the truth is not a line spectrum.
double bound(const std::vector<float>& x, double sigma)
{
    RealFft fft(fastFftSize(x.size()));
    std::ranges::fill(fft.time(), 0.0f);
    std::ranges::copy(x, fft.time().begin());
    fft.forward();
    double information = 0.0;
    const double noise = sigma * sigma * double(x.size());
    for (std::size_t k = 1; k + 1 < fft.spectrum().size(); ++k) {
        const double s = std::norm(std::complex<double>(fft.spectrum()[k])),
                     w = 2.0 * kPi * double(k) / double(fft.size());
        const double c = s * s / ((s + noise) * (s + noise));
        information += 2.0 * w * w * c / (1.0 - c);
    }
    return 1.0 / std::sqrt(information);
}

/// Reports mean and spread of errors.
struct Errors {
    std::vector<double> of;
    double rms() const
    {
        double sum = 0.0;
        for (const double e : of) sum += e * e;
        return std::sqrt(sum / double(of.size()));
    }
    double spread() const
    {
        double mean = 0.0, sum = 0.0;
        for (const double e : of) mean += e / double(of.size());
        for (const double e : of) sum += (e - mean) * (e - mean);
        return std::sqrt(sum / double(of.size()));
    }
};

} // namespace

int main()
{
    const auto x = guitar(3, rhythmRiff(6));
    std::mt19937 random(5);
    std::uniform_real_distribution<double> away(-40.0, 40.0);
    for (const double snr : {20.0, 30.0, 40.0}) {
        const double sigma = rms(x) * std::pow(10.0, -snr / 20.0);
        Errors errors;
        int turned = 0;
        double least = 1.0;
        for (unsigned trial = 0; trial < 60; ++trial) {
            const double d = away(random), sign = trial % 2 ? -1.0 : 1.0;
            const auto r =
                alignTo(noisy(x, sigma, 2 * trial), noisy(later(x, d, sign), sigma, 2 * trial + 1), kRate).value();
            errors.of.push_back(r.delaySamples - d);
            turned += r.isInverted != (sign < 0.0);
            least = std::min(least, r.confidence);
        }
        const double crb = bound(x, sigma);
        fmt::print("equal responses, {} dB: {:.5f} samples, bound {:.5f}: {:.2f} x (reach 1.2); polarity wrong {} of "
                   "60; confidence {:.2f} at least\n",
                   snr, errors.rms(), crb, errors.rms() / crb, turned, least);
    }
    Errors exact;
    for (int trial = 0; trial < 20; ++trial) {
        const double d = away(random);
        exact.of.push_back(alignTo(x, later(x, d), kRate).value().delaySamples - d);
    }
    fmt::print("without noise: {:.6f} samples (reach 0.02)\n", exact.rms());

    // Unlike microphones: another resonance, a rise below, a floor that answers late.
    Errors unlike;
    int turned = 0;
    double least = 1.0;
    for (unsigned trial = 0; trial < 40; ++trial) {
        const double d = 60.0 + away(random), sign = trial % 2 ? -1.0 : 1.0;
        auto y = later(x, d, sign);
        Biquad(bell(2500.0 + 80.0 * trial, 5.0, 1.2, kRate)).process(y);
        Biquad(lowShelf(200.0, 6.0, kRate)).process(y);
        Biquad(lowPass(9000.0, 0.8, kRate)).process(y);
        const auto floor = later(y, 95.0);
        for (std::size_t i = 0; i < y.size(); ++i) y[i] += 0.5f * floor[i];
        const auto r = alignTo(x, noisy(y, 0.002 * rms(x), trial), kRate).value();
        unlike.of.push_back(r.delaySamples - d);
        turned += r.isInverted != (sign < 0.0);
        least = std::min(least, r.confidence);
    }
    fmt::print("unlike microphones: worst {:.2f} samples, spread {:.3f}; polarity wrong {} of 40; confidence {:.2f} at "
               "least\n",
               std::abs(*std::ranges::max_element(unlike.of, {}, [](double e) { return std::abs(e); })),
               unlike.spread(), turned, least);
    Errors again;
    auto y = later(x, 33.3);
    Biquad(bell(3000.0, 5.0, 1.2, kRate)).process(y);
    Biquad(lowPass(7000.0, 0.8, kRate)).process(y);
    for (unsigned trial = 0; trial < 20; ++trial)
        again.of.push_back(alignTo(noisy(x, 0.003 * rms(x), trial), noisy(y, 0.003 * rms(x), trial + 100), kRate)
                               .value()
                               .delaySamples);
    fmt::print("unlike, other noise: spread {:.4f} samples (reach 0.01)\n", again.spread());

    // Driven hard behind the DI.
    auto driven = later(x, 41.5);
    for (float& v : driven) v = std::tanh(40.0f * v);
    Biquad(lowPass(5000.0, 0.7, kRate)).process(driven);
    const auto r = alignTo(x, driven, kRate).value();
    fmt::print("driven against its DI: {:.2f} samples off, confidence {:.2f}, {}\n", r.delaySamples - 41.5,
               r.confidence, r.isInverted ? "inverted: WRONG" : "normal");

    double strange = 0.0;
    for (unsigned trial = 0; trial < 12; ++trial) {
        const auto other = guitar(100 + trial, trial % 3 == 0   ? rhythmRiff(6)
                                               : trial % 3 == 1 ? leadLine(7)
                                                                : brokenChords(6, 4.0));
        strange = std::max(strange, alignTo(x, other, kRate).value().confidence);
    }
    fmt::print("strangers, the same part played again among them: confidence {:.2f} at most (bound 0.5)\n", strange);
    const auto began = std::chrono::steady_clock::now();
    std::vector<float> longX, longY;
    for (int k = 0; k < 24; ++k) longX.insert(longX.end(), x.begin(), x.end());
    longY = longX;
    (void)alignTo(longX, longY, kRate);
    fmt::print("two minutes aligned at {:.0f} x real time\n",
               120.0 / std::chrono::duration<double>(std::chrono::steady_clock::now() - began).count());
}
