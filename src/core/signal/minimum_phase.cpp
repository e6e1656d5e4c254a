#include "core/signal/minimum_phase.h"

#include "core/signal/fft.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

std::vector<float> minimumPhase(const std::function<double(double hz)>& gainAt, double rateHz, std::size_t taps)
{
    // The log magnitude's cepstrum, folded to positive time, and back. The transform is long against the response, so
    // that its cepstrum does not alias.
    const std::size_t n = fastFftSize(std::max<std::size_t>(16384, 8 * taps));
    RealFft fft(n);
    for (std::size_t k = 0; k <= n / 2; ++k) {
        const double hz = std::max(1.0, double(k) * rateHz / double(n));
        fft.spectrum()[k] = static_cast<float>(std::log(std::max(gainAt(hz), 1e-9)));
    }
    fft.inverse();
    const auto cepstrum = fft.time();
    for (std::size_t i = 0; i < n; ++i) {
        const float weight = i == 0 || i == n / 2 ? 1.0f : i < n / 2 ? 2.0f : 0.0f;
        cepstrum[i] *= weight / float(n);
    }
    fft.forward();
    for (auto& bin : fft.spectrum()) bin = std::exp(bin);
    fft.inverse();
    std::vector<float> out(taps);
    const std::size_t fade = taps / 8;
    for (std::size_t i = 0; i < taps; ++i) {
        const double part = i + fade < taps ? 1.0 : double(taps - i) / double(fade + 1);
        out[i] = fft.time()[i] / float(n) * static_cast<float>(0.5 - 0.5 * std::cos(std::numbers::pi * part));
    }
    return out;
}

} // namespace gristle::core
