#include "core/stereo/copy_delay.h"

#include "core/signal/fft.h"

#include <cmath>
#include <complex>

namespace gristle::core {

Result<std::vector<CopyDelay>> copyDelays(std::span<const float> x, double rateHz, double gain, double fromMs,
                                          double toMs)
{
    // What a sound and itself later have in common is its autocorrelation, told at whole samples.
    std::size_t n = 1;
    while (n < x.size() + std::size_t(0.001 * toMs * rateHz) + 64) n *= 2;
    double power = 0.0;
    for (const float v : x) power += double(v) * double(v);
    if (double(x.size()) < 0.5 * rateHz || power <= 1e-12 * double(x.size()))
        return Error{ErrorCode::OutOfRange, "copy: there is too little sound to tell what a delay does",
                     "choose a louder or longer stretch"};
    RealFft fft(n);
    std::ranges::fill(fft.time(), 0.0f);
    std::ranges::copy(x, fft.time().begin());
    fft.forward();
    std::vector<double> spectrum;
    for (const auto& bin : fft.spectrum()) spectrum.push_back(double(std::norm(bin)));
    double all = 0.0;
    for (std::size_t k = 0; k < spectrum.size(); ++k) all += (k == 0 || 2 * k == n ? 1.0 : 2.0) * spectrum[k];
    for (std::size_t k = 0; k < fft.spectrum().size(); ++k) fft.spectrum()[k] = {float(spectrum[k] / all), 0.0f};
    fft.inverse();
    std::vector<CopyDelay> out;
    for (double ms = fromMs; ms <= toMs + 1e-9; ms += 0.1) {
        const auto lag = std::size_t(std::llround(0.001 * ms * rateHz));
        const double alike = double(fft.time()[lag]);
        const double sum = (1.0 + gain * gain + 2.0 * gain * alike) / (1.0 + gain * gain);
        out.push_back({1000.0 * double(lag) / rateHz, -10.0 * std::log10(std::max(1e-6, sum))});
    }
    return out;
}

} // namespace gristle::core
