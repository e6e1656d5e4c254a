#include "core/timing/offset_spread.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

/// What an offset weighs where hands have a spread.
double weight(const DoubtedOffset& o, double sdMs) { return 1.0 / (sdMs * sdMs + o.doubtMs * o.doubtMs + 1e-12); }

struct Sums {
    double weights = 0.0, squares = 0.0; ///< of the weights
};

Sums sumsOf(std::span<const DoubtedOffset> offsets, double sdMs)
{
    Sums out;
    for (const auto& o : offsets) {
        const double w = weight(o, sdMs);
        out.weights += w, out.squares += w * w;
    }
    return out;
}

double meanOf(std::span<const DoubtedOffset> offsets, double sdMs)
{
    double sum = 0.0;
    for (const auto& o : offsets) sum += weight(o, sdMs) * o.ms;
    return sum / sumsOf(offsets, sdMs).weights;
}

} // namespace

OffsetSpread offsetSpread(std::span<const DoubtedOffset> offsets)
{
    constexpr int kHalvings = 60;
    if (offsets.empty()) return {};
    const auto off = [&](double sdMs) {
        const double mean = meanOf(offsets, sdMs);
        double sum = 0.0;
        for (const auto& o : offsets) sum += weight(o, sdMs) * (o.ms - mean) * (o.ms - mean);
        return sum;
    };
    const double wanted = double(offsets.size()) - 1.0;
    const auto [low, high] = std::ranges::minmax_element(offsets, {}, &DoubtedOffset::ms);
    double least = 0.0, most = high->ms - low->ms; // a spread over n - 1 is under the range
    if (offsets.size() < 2 || off(0.0) <= wanted) return {meanOf(offsets, 0.0), 0.0};
    for (int i = 0; i < kHalvings; ++i) {
        const double middle = 0.5 * (least + most);
        (off(middle) > wanted ? least : most) = middle;
    }
    return {meanOf(offsets, most), most};
}

double spreadDoubtMs(std::span<const DoubtedOffset> offsets, double sdMs)
{
    if (offsets.size() < 2) return 0.0;
    const double n = double(offsets.size());
    const double ofSquare = std::sqrt(2.0 * n / ((n - 1.0) * sumsOf(offsets, sdMs).squares));
    return std::min(ofSquare / (2.0 * sdMs + 1e-12), std::sqrt(ofSquare));
}

double medianDoubtMs(std::span<const DoubtedOffset> offsets, double sdMs)
{
    return offsets.size() < 2 ? 0.0 : 1.2533 / std::sqrt(sumsOf(offsets, sdMs).weights);
}

} // namespace gristle::core
