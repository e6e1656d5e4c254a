#include "core/timing/detuning.h"

#include "core/signal/window.h"

#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

namespace gristle::core {

namespace {

struct Partial {
    double hz, power;
};

/// The strongest partials of a stretch, strongest first. @param fft  four times as long, or longer
std::vector<Partial> partialsOf(std::span<const float> x, double rateHz, RealFft& fft)
{
    constexpr std::size_t kMost = 14;
    const std::size_t n = fft.size();
    const auto window = hannWindow(x.size());
    std::ranges::fill(fft.time(), 0.0f);
    for (std::size_t i = 0; i < x.size(); ++i) fft.time()[i] = float(window[i] * double(x[i]));
    fft.forward();
    const auto power = [&](std::size_t k) { return double(std::norm(fft.spectrum()[k])); };
    std::vector<Partial> out;
    const double perHz = double(n) / rateHz;
    for (auto k = std::size_t(70.0 * perHz); k + 2 < fft.spectrum().size() && double(k) < 3000.0 * perHz; ++k) {
        const double l = power(k - 1), m = power(k), r = power(k + 1);
        if (!(m > l && m >= r)) continue;
        // A parabola through the logarithms: four times padded, a Hann window's peak is one to a thousandth of a bin.
        const double a = std::log(l + 1e-30), b = std::log(m), c = std::log(r + 1e-30);
        out.push_back({(double(k) + 0.5 * (a - c) / (a - 2.0 * b + c)) / perHz, m});
    }
    std::ranges::sort(out, std::greater{}, &Partial::power);
    if (out.size() > kMost) out.resize(kMost);
    return out;
}

} // namespace

std::optional<Detuning> centsBetween(std::span<const float> a, std::span<const float> b, double rateHz, RealFft& fft)
{
    constexpr double kMostCents = 45.0, kWeakest = 0.003, kLeastDoubtCents = 0.15;
    const auto first = partialsOf(a, rateHz, fft), second = partialsOf(b, rateHz, fft);
    if (first.empty() || second.empty()) return std::nullopt;
    std::vector<std::pair<double, double>> found; // cents, weight
    for (const Partial& p : first) {
        if (p.power < kWeakest * first.front().power) break;
        const Partial* nearest = nullptr;
        for (const Partial& q : second)
            if (q.power > kWeakest * second.front().power &&
                (!nearest || std::abs(std::log(q.hz / p.hz)) < std::abs(std::log(nearest->hz / p.hz))))
                nearest = &q;
        const double cents = nearest ? 1200.0 * std::log2(nearest->hz / p.hz) : 99.0;
        // A cent is more hertz higher up, and so is told better there.
        if (std::abs(cents) < kMostCents)
            found.emplace_back(cents, std::sqrt(std::sqrt(p.power * nearest->power)) * p.hz);
    }
    if (found.size() < 2) return std::nullopt;
    std::ranges::sort(found);
    const auto weightedMedian = [](const std::vector<std::pair<double, double>>& sorted) {
        double all = 0.0, sum = 0.0;
        for (const auto& [value, weight] : sorted) all += weight;
        for (const auto& [value, weight] : sorted)
            if ((sum += weight) >= 0.5 * all) return value;
        return 0.0;
    };
    const double cents = weightedMedian(found);
    double weights = 0.0, squares = 0.0;
    for (auto& [value, weight] : found) {
        value = std::abs(value - cents);
        weights += weight, squares += weight * weight;
    }
    std::ranges::sort(found);
    // Gauss's law: a sd is 1.483 median deviations, and a median 1.253 times as doubtful as a mean.
    return Detuning{cents, kLeastDoubtCents + 1.253 * 1.483 * weightedMedian(found) * std::sqrt(squares) / weights};
}

} // namespace gristle::core
