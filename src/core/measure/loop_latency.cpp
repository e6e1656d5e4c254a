#include "core/measure/loop_latency.h"

#include "core/signal/fft.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <random>

namespace gristle::core {

namespace {

constexpr double kPingS = 0.25, kFadeS = 0.005, kLowHz = 100.0, kTopPart = 0.42;
constexpr double kLeastSnrDb = 3.0;
constexpr double kPi = std::numbers::pi;

/// Correlation of both spectra at a delay, up to a factor that does not depend on it.
double correlationAt(std::span<const std::complex<double>> cross, double delay, double length)
{
    const std::complex<double> turn = std::polar(1.0, 2.0 * kPi * delay / length);
    std::complex<double> phase = 1.0;
    double sum = 0.0;
    for (const auto& bin : cross) {
        sum += (bin * phase).real();
        phase *= turn;
    }
    return sum;
}

} // namespace

std::vector<float> latencyPing(double rateHz, double peak)
{
    const auto count = std::size_t(kPingS * rateHz);
    RealFft fft(fastFftSize(count));
    std::mt19937 random(20261);
    const double binHz = rateHz / double(fft.size());
    for (std::size_t i = 0; i < fft.spectrum().size(); ++i) {
        const double hz = double(i) * binHz, angle = 2.0 * kPi * double(random()) / 4294967296.0;
        const bool in = hz >= kLowHz && hz <= kTopPart * rateHz;
        fft.spectrum()[i] = in ? std::complex<float>(std::polar(1.0, angle)) : std::complex<float>(0.0f);
    }
    fft.inverse();
    std::vector<float> out(fft.time().begin(), fft.time().begin() + long(count));
    const double fade = kFadeS * rateHz;
    float most = 0.0f;
    for (std::size_t i = 0; i < count; ++i) {
        const double edge = std::min({1.0, double(i) / fade, double(count - 1 - i) / fade});
        out[i] = float(out[i] * (0.5 - 0.5 * std::cos(kPi * edge)));
        most = std::max(most, std::abs(out[i]));
    }
    for (float& x : out) x *= float(peak) / most;
    return out;
}

std::optional<LoopLatency> findPing(std::span<const float> recording, std::span<const float> ping)
{
    if (ping.empty() || recording.size() < ping.size()) return std::nullopt;
    const std::size_t length = fastFftSize(recording.size() + ping.size());
    RealFft a(length), b(length);
    std::ranges::fill(a.time(), 0.0f);
    std::ranges::fill(b.time(), 0.0f);
    std::ranges::copy(ping, a.time().begin());
    std::ranges::copy(recording, b.time().begin());
    a.forward();
    b.forward();
    std::vector<std::complex<double>> cross(a.spectrum().size());
    for (std::size_t i = 0; i < cross.size(); ++i) {
        cross[i] = std::complex<double>(b.spectrum()[i]) * std::conj(std::complex<double>(a.spectrum()[i]));
        a.spectrum()[i] = std::complex<float>(cross[i]);
    }
    a.inverse();
    // The polarity of a cable is not known: the largest by size.
    const std::size_t lags = recording.size() - ping.size() + 1;
    std::size_t peak = 0;
    for (std::size_t i = 1; i < lags; ++i)
        if (std::abs(a.time()[i]) > std::abs(a.time()[peak])) peak = i;
    const double sign = a.time()[peak] < 0.0f ? -1.0 : 1.0;
    double low = double(peak) - 1.0, high = double(peak) + 1.0;
    constexpr double kGolden = 0.6180339887498949;
    for (int i = 0; i < 32; ++i) {
        const double c = high - kGolden * (high - low), d = low + kGolden * (high - low);
        if (sign * correlationAt(cross, c, double(length)) > sign * correlationAt(cross, d, double(length)))
            high = d;
        else
            low = c;
    }
    LoopLatency out;
    out.delaySamples = 0.5 * (low + high);
    // What the ping explains of the recording over its time, against what it does not.
    double pingPower = 0.0, whole = 0.0;
    for (const float x : ping) pingPower += double(x) * double(x);
    for (std::size_t i = 0; i < ping.size(); ++i) whole += double(recording[peak + i]) * double(recording[peak + i]);
    // Both ends of a real spectrum stand once, the bins between for two.
    const double along = 2.0 * correlationAt(cross, out.delaySamples, double(length)) / double(length);
    const double explained = along * along / pingPower;
    if (explained <= 0.0) return std::nullopt;
    out.snrDb = powerToDb(explained / std::max(whole - explained, explained * 1e-12));
    if (out.snrDb < kLeastSnrDb) return std::nullopt;
    return out;
}

} // namespace gristle::core
