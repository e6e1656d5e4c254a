#include "core/timing/cross_spectrum.h"

#include "core/signal/window.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {
constexpr double kPi = std::numbers::pi;
}

CrossSpectrum::CrossSpectrum(std::size_t window)
    : first(window / 2 + 1), second(window / 2 + 1), cross(window / 2 + 1), fft_(window), shape_(hannWindow(window)),
      held_(window / 2 + 1)
{}

void CrossSpectrum::add(std::span<const float> a, std::span<const float> b, std::int64_t lag)
{
    const std::size_t skipA = lag < 0 ? std::size_t(-lag) : 0, skipB = lag > 0 ? std::size_t(lag) : 0;
    if (skipA >= a.size() || skipB >= b.size()) return;
    a = a.subspan(skipA), b = b.subspan(skipB);
    const auto n = std::int64_t(std::min(a.size(), b.size())), size = std::int64_t(window());
    std::vector<float> edgeA(window()), edgeB(window());
    for (std::int64_t at = -3 * size / 4; at < n; at += size / 4) {
        if (at >= 0 && at + size <= n) {
            addWindow(a.subspan(std::size_t(at), window()), b.subspan(std::size_t(at), window()));
            continue;
        }
        // Over the edges, so that every sample counts alike, and faded, so that a cut is no click.
        const std::int64_t from = std::max<std::int64_t>(at, 0), to = std::min(at + size, n), fade = size / 8;
        for (const auto& [x, edge] : {std::pair(a, &edgeA), {b, &edgeB}}) {
            std::ranges::fill(*edge, 0.0f);
            for (std::int64_t i = from; i < to; ++i) {
                const double in = at < 0 ? std::min(1.0, double(i) / double(fade)) : 1.0,
                             out = at + size > n ? std::min(1.0, double(n - i) / double(fade)) : 1.0;
                (*edge)[std::size_t(i - at)] =
                    float(0.25 * (1.0 - std::cos(kPi * in)) * (1.0 - std::cos(kPi * out)) * double(x[std::size_t(i)]));
            }
        }
        addWindow(edgeA, edgeB);
    }
}

void CrossSpectrum::addWindow(std::span<const float> a, std::span<const float> b)
{
    const auto transform = [&](std::span<const float> x) {
        for (std::size_t i = 0; i < x.size(); ++i) fft_.time()[i] = float(double(x[i]) * shape_[i]);
        fft_.forward();
    };
    transform(a);
    std::ranges::copy(fft_.spectrum(), held_.begin());
    transform(b);
    for (std::size_t k = 0; k < bins(); ++k) {
        const std::complex<double> x = held_[k], y = fft_.spectrum()[k];
        first[k] += std::norm(x);
        second[k] += std::norm(y);
        cross[k] += y * std::conj(x);
    }
    ++windows_;
}

void CrossSpectrum::clear() noexcept
{
    std::ranges::fill(first, 0.0);
    std::ranges::fill(second, 0.0);
    std::ranges::fill(cross, 0.0);
    windows_ = 0;
}

std::vector<double> CrossSpectrum::coherence(double around) const
{
    std::vector<double> out(bins());
    // Sums up to each bin: a window of any width costs the same.
    std::vector<double> a(bins() + 1), b(bins() + 1);
    std::vector<std::complex<double>> c(bins() + 1);
    for (std::size_t k = 0; k < bins(); ++k)
        a[k + 1] = a[k] + first[k], b[k + 1] = b[k] + second[k], c[k + 1] = c[k] + cross[k];
    for (std::size_t k = 0; k < bins(); ++k) {
        const auto half = std::max<std::size_t>(2, std::size_t(around * double(k)));
        const std::size_t from = k > half ? k - half : 0, to = std::min(bins(), k + half + 1);
        const double power = (a[to] - a[from]) * (b[to] - b[from]);
        out[k] = power > 0.0 ? std::min(1.0, std::norm(c[to] - c[from]) / power) : 0.0;
    }
    return out;
}

} // namespace gristle::core
