#include "core/measure/hum_trace.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

namespace gristle::core {

namespace {

constexpr int kPeriods = 10;
constexpr int kHarmonics = 8;

/// Power sum of the harmonics over a whole number of periods, where their sines are orthogonal: least squares is the
/// transform at each.
double humPower(std::span<const float> window, double mean, double w)
{
    double power = 0.0;
    for (int h = 1; h <= kHarmonics; ++h) {
        const std::complex<double> turn = std::polar(1.0, -w * h);
        std::complex<double> phase = 1.0, sum = 0.0;
        for (const float x : window) {
            sum += (double(x) - mean) * phase;
            phase *= turn;
        }
        power += std::norm(2.0 * sum / double(window.size()));
    }
    return power;
}

} // namespace

std::vector<HumPoint> humTrace(std::span<const float> mono, double rateHz, double mainsHz)
{
    std::vector<HumPoint> out;
    const auto length = static_cast<std::size_t>(std::lround(kPeriods * rateHz / mainsHz));
    const double w = 2.0 * std::numbers::pi * mainsHz / rateHz;
    for (std::size_t at = 0; at + length <= mono.size(); at += length / 2) {
        const auto window = mono.subspan(at, length);
        double mean = 0.0;
        for (const float x : window) mean += double(x) / double(length);
        out.push_back({(double(at) + 0.5 * double(length)) / rateHz, powerToDb(humPower(window, mean, w))});
    }
    return out;
}

HumTurn humTurn(const std::vector<HumPoint>& trace)
{
    auto sorted = trace;
    std::ranges::sort(sorted, {}, &HumPoint::levelDbfs);
    const std::size_t n = std::max<std::size_t>(1, sorted.size() / 10);
    const auto meanOf = [&](std::size_t from) {
        double power = 0.0;
        for (std::size_t i = from; i < from + n; ++i) power += dbToPower(sorted[i].levelDbfs) / double(n);
        return powerToDb(power);
    };
    HumTurn out;
    out.best = {sorted.front().timeS, meanOf(0)};
    out.worst = {sorted.back().timeS, meanOf(sorted.size() - n)};
    out.differenceDb = out.worst.levelDbfs - out.best.levelDbfs;
    return out;
}

} // namespace gristle::core
