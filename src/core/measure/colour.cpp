#include "core/measure/colour.h"

#include "core/measure/loudness.h"
#include "core/signal/fft.h"
#include "core/signal/window.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <vector>

namespace gristle::core {

namespace {

constexpr double kNothing = 1e-20;

double crestDb(std::span<const float> x)
{
    double squares = 0.0, peak = 0.0;
    for (const float v : x) {
        squares += double(v) * double(v);
        peak = std::max(peak, std::abs(double(v)));
    }
    return squares > 0.0 ? amplitudeToDb(peak / std::sqrt(squares / double(x.size()))) : 0.0;
}

void transform(RealFft& fft, std::span<const double> window, std::span<const float> x)
{
    for (std::size_t i = 0; i < fft.size(); ++i) fft.time()[i] = static_cast<float>(window[i] * double(x[i]));
    fft.forward();
}

} // namespace

Colour colourOf(const AudioBuffer& audio, double rateHz)
{
    Colour out;
    out.lufs = integratedLoudness(audio, rateHz).value_or(-70.0);
    for (std::size_t c = 0; c < audio.channels(); ++c) out.crestDb = std::max(out.crestDb, crestDb(audio.channel(c)));
    const auto x = audio.channel(0);
    RealFft fft(4096);
    const auto window = hannWindow(fft.size());
    double whole = kNothing, bright = kNothing, body = kNothing;
    for (std::size_t at = 0; at + fft.size() <= x.size(); at += fft.size() / 2) {
        transform(fft, window, x.subspan(at));
        for (std::size_t k = 1; k < fft.size() / 2; ++k) {
            const double hz = rateHz * double(k) / double(fft.size());
            const double power = double(std::norm(fft.spectrum()[k]));
            whole += power;
            if (hz > 2000.0) bright += power;
            if (hz >= 100.0 && hz <= 400.0) body += power;
        }
    }
    out.brightnessDb = powerToDb(bright / whole);
    out.bodyDb = powerToDb(body / whole);
    return out;
}

double newSoundDb(std::span<const float> in, std::span<const float> out)
{
    RealFft fft(1024);
    const std::size_t bins = fft.size() / 2 + 1;
    const auto window = hannWindow(fft.size());
    std::vector<double> inPower(bins), outPower(bins);
    std::vector<std::complex<double>> cross(bins), before(bins);
    for (std::size_t at = 0; at + fft.size() <= std::min(in.size(), out.size()); at += fft.size() / 2) {
        transform(fft, window, in.subspan(at));
        for (std::size_t k = 0; k < bins; ++k) before[k] = std::complex<double>(fft.spectrum()[k]);
        transform(fft, window, out.subspan(at));
        for (std::size_t k = 0; k < bins; ++k) {
            const auto after = std::complex<double>(fft.spectrum()[k]);
            inPower[k] += std::norm(before[k]);
            outPower[k] += std::norm(after);
            cross[k] += std::conj(before[k]) * after;
        }
    }
    double whole = kNothing, fresh = kNothing;
    for (std::size_t k = 1; k < bins; ++k) {
        whole += outPower[k];
        fresh += std::max(0.0, outPower[k] - (inPower[k] > 0.0 ? std::norm(cross[k]) / inPower[k] : 0.0));
    }
    return powerToDb(fresh / whole);
}

} // namespace gristle::core
