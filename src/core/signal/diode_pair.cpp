#include "core/signal/diode_pair.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr int kPlaces = 1024;
constexpr double kFarthest = 24.0; // of asinh(i / 2 Is): some 60 A, which nothing here gives

} // namespace

DiodePair::DiodePair(const Parts& parts)
    : parts_(parts), ratio_(parts.slopeV / (parts.ohm * 2.0 * parts.saturationA)), perStep_((kPlaces - 1) / kFarthest)
{
    // y with ratio y + sinh y = sinh t, for t from 0 on: Newton from the place before, where the function is convex.
    double y = 0.0;
    for (int k = 0; k < kPlaces; ++k) {
        const double t = k / perStep_, wanted = std::sinh(t);
        if (k > 0) y = t; // from above, so each step comes nearer
        for (int round = 0; round < 60; ++round) {
            const double by = (ratio_ * y + std::sinh(y) - wanted) / (ratio_ + std::cosh(y));
            y -= by;
            if (std::abs(by) < 1e-14 * (1.0 + y)) break;
        }
        table_.push_back(y);
        table_.push_back(std::cosh(t) / (ratio_ + std::cosh(y)) / perStep_); // the slope, for one place
    }
}

void DiodePair::reset() noexcept { last_ = {}, lastBack_ = 0.0; }

DiodePair::Place DiodePair::at(double amperes) const noexcept
{
    const double unit = 2.0 * parts_.saturationA, x = std::abs(amperes) / unit;
    const double t = std::log(x + std::sqrt(x * x + 1.0)) * perStep_;
    const int k = std::min(int(t), kPlaces - 2);
    const double part = std::min(t - k, 1.0), back = part - 1.0;
    const double* const p = table_.data() + 2 * std::size_t(k); // cubic with the slopes of both ends
    const double y = back * back * ((1.0 + 2.0 * part) * p[0] + part * p[1]) +
                     part * part * ((3.0 - 2.0 * part) * p[2] + back * p[3]);
    const double rest = x - ratio_ * y, root = std::sqrt(1.0 + rest * rest); // sinh and cosh of y
    const double area = x * y - 0.5 * ratio_ * y * y - rest * rest / (1.0 + root);
    const double volts = std::copysign(y * parts_.slopeV, amperes);
    return {amperes, volts, area * unit * parts_.slopeV};
}

double DiodePair::voltsAt(double amperes) const noexcept { return at(amperes).volts; }

/// Of the voltage between two currents. Where they are so near that the difference of areas has few digits left, the
/// line between the voltages is as good.
double DiodePair::mean(const Place& a, const Place& b) noexcept
{
    const double by = b.current - a.current, size = std::max(std::abs(a.current), std::abs(b.current));
    if (std::abs(by) <= 1e-5 * size) return 0.5 * (a.volts + b.volts);
    return (b.area - a.area) / by;
}

void DiodePair::process(std::span<double> x) noexcept
{
    Place a = last_;
    double back = lastBack_;
    for (double& sample : x) {
        const double step = 0.25 * (sample - a.current);
        const Place b = at(a.current + step), c = at(a.current + 2.0 * step), d = at(a.current + 3.0 * step),
                    e = at(sample);
        const double m0 = mean(a, b), m1 = mean(b, c), m2 = mean(c, d), m3 = mean(d, e);
        sample = 0.0625 * ((4.0 * m0 + 3.0 * m1) + (2.0 * m2 + m3) + back);
        back = m1 + (2.0 * m2 + 3.0 * m3);
        a = e;
    }
    last_ = a;
    lastBack_ = back;
}

} // namespace gristle::core
