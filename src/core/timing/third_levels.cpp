#include "core/timing/third_levels.h"

#include "core/signal/fft.h"
#include "core/signal/window.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

std::vector<ThirdLevels> levelsBehind(std::span<const float> x, const std::vector<Onset>& onsets, double rateHz)
{
    if (onsets.empty()) return {};
    const auto length = std::size_t(0.1 * rateHz);
    RealFft fft(fastFftSize(length));
    const auto window = hannWindow(length);
    const double perHz = double(fft.size()) / rateHz;
    std::vector<ThirdLevels> out;
    for (const Onset& o : onsets) {
        std::ranges::fill(fft.time(), 0.0f);
        const auto from = std::size_t(std::max(0.0, o.timeS + 0.005) * rateHz);
        for (std::size_t i = 0; i < length && from + i < x.size(); ++i)
            fft.time()[i] = float(window[i] * double(x[from + i]));
        fft.forward();
        ThirdLevels levels{};
        for (std::size_t b = 0; b < levels.size(); ++b) {
            const double low = 70.0 * std::exp2(double(b) / 3.0), high = low * std::exp2(1.0 / 3.0);
            double sum = 1e-12;
            for (auto k = std::size_t(low * perHz); k <= std::size_t(high * perHz) && k < fft.spectrum().size(); ++k)
                sum += double(std::norm(fft.spectrum()[k]));
            levels[b] = std::log10(sum);
        }
        out.push_back(levels);
    }
    return out;
}

} // namespace gristle::core
