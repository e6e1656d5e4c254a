#include "core/stereo/comb.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

struct Sides {
    std::complex<double> left, right;
};

Sides sumsAt(double hz, std::span<const HeardCopy> copies)
{
    Sides out;
    for (const HeardCopy& c : copies) {
        const auto turn = std::polar(c.isInverted ? -1.0 : 1.0, -2.0 * std::numbers::pi * hz * c.laterS);
        out.left += c.left * turn, out.right += c.right * turn;
    }
    return out;
}

} // namespace

double predictedMonoLossDb(std::span<const double> power, double binHz, std::span<const HeardCopy> copies)
{
    double sides = 0.0, mono = 0.0;
    for (std::size_t k = 0; k < power.size(); ++k) {
        const Sides s = sumsAt(double(k) * binHz, copies);
        sides += power[k] * (std::norm(s.left) + std::norm(s.right));
        mono += power[k] * std::norm(s.left + s.right);
    }
    return 10.0 * std::log10(sides / std::max(mono, 1e-12 * sides));
}

std::vector<CombNotch> predictedNotches(std::span<const HeardCopy> copies, double mostHz)
{
    constexpr double kLowHz = 30.0, kToldDb = 3.0;
    constexpr std::size_t kMost = 32;
    double apart = 0.0, unrelated = 0.0;
    for (const HeardCopy& c : copies) {
        for (const HeardCopy& d : copies) apart = std::max(apart, std::abs(c.laterS - d.laterS));
        unrelated += (c.left + c.right) * (c.left + c.right);
    }
    std::vector<CombNotch> out;
    if (apart <= 0.0 || unrelated <= 0.0) return out;
    const auto at = [&](double hz) {
        const Sides s = sumsAt(hz, copies);
        return std::norm(s.left + s.right) / unrelated;
    };
    const double step = std::min(2.0, 0.05 / apart); // twenty steps from dip to dip
    for (double hz = kLowHz; hz < mostHz && out.size() < kMost; hz += step) {
        if (!(at(hz) <= at(hz - step) && at(hz) < at(hz + step))) continue;
        double low = hz - step, high = hz + step;
        for (int i = 0; i < 40; ++i) { // the golden section would do with fewer; this is plain
            const double a = low + (high - low) / 3.0, b = high - (high - low) / 3.0;
            (at(a) < at(b) ? high : low) = at(a) < at(b) ? b : a;
        }
        const double depth = -10.0 * std::log10(at(0.5 * (low + high)) + 1e-12);
        if (depth > kToldDb) out.push_back({0.5 * (low + high), depth});
    }
    return out;
}

} // namespace gristle::core
