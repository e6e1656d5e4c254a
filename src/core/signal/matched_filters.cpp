#include "core/signal/matched_filters.h"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <span>
#include <vector>

namespace gristle::core {

namespace {

/// Numerator and denominator in rising powers of s, in units of its frequency.
struct Prototype {
    std::array<double, 3> over, under;
};

/// |c0 + c1 s + c2 s^2|^2 at s = j x.
double power(const std::array<double, 3>& c, double x)
{
    const double even = c[0] - c[2] * x * x, odd = c[1] * x;
    return even * even + odd * odd;
}

/// Weights of p, q and 4 p q.
using Squared = std::array<double, 3>;

/// Half of the sum of a polynomial's values at 0 Hz and at half the rate.
double evenOf(const Squared& c) { return 0.5 * (std::sqrt(c[0]) + std::sqrt(c[1])); }

/// Whether the polynomial is over 0 at each frequency. @param c  over 0 at 0 Hz
bool isOver0(const Squared& c) { return c[1] > 0.0 && c[2] > -evenOf(c) * evenOf(c); }

/// The second-order polynomial with all zeros inside the unit circle that has this squared gain.
std::array<double, 3> rootOf(const Squared& c)
{
    const double even = evenOf(c), first = 0.5 * (even + std::sqrt(even * even + c[2]));
    return {first, 0.5 * (std::sqrt(c[0]) - std::sqrt(c[1])), -c[2] / (4.0 * first)};
}

struct Point {
    double p, q, pq4, wanted; ///< wanted: the squared gain
    double under;             ///< the denominator as it was found last; first the prototype's
    double gain(const Squared& c) const { return c[0] * p + c[1] * q + c[2] * pq4; }
};

/// Where the prototype is followed: to 18.5 kHz, past its own frequency, densely around that.
std::vector<Point> pointsOf(const Prototype& t, double hz, double rateHz)
{
    constexpr double kFromHz = 20.0, kToHz = 18500.0;
    constexpr int kPoints = 50, kAround = 16;
    const double top = std::min(0.49 * rateHz, std::max(kToHz, 1.05 * hz)), most = 0.4999 * rateHz;
    std::vector<Point> points;
    const auto add = [&](double f) {
        const double half = std::numbers::pi * std::min(f, most) / rateHz, q = std::sin(half) * std::sin(half);
        const double under = power(t.under, f / hz);
        points.push_back({1.0 - q, q, 4.0 * q * (1.0 - q), power(t.over, f / hz) / under, under});
    };
    for (int k = 0; k <= kPoints; ++k) {
        const double part = double(k) / kPoints;
        add(kFromHz * std::pow(top / kFromHz, part));
        add(part * top);
    }
    for (int k = -kAround; k <= kAround; ++k) add(std::min(top, hz * std::exp2(double(k) / kAround)));
    return points;
}

constexpr double kTooFar = 2.0; // of squared gains: what is further off is not taken

/// How far squared gains are off at worst, as a ratio over 1.
double worstOf(const Squared& over, const Squared& under, std::span<const Point> points)
{
    double worst = 1.0;
    for (const Point& at : points) {
        const double ratio = at.gain(over) / (at.gain(under) * at.wanted);
        worst = std::max(worst, ratio > 0.0 ? std::max(ratio, 1.0 / ratio) : kTooFar);
    }
    return worst;
}

/// @param plain  what is taken where nothing better is found
/// @param t  not 0 at 0 Hz; where it falls without end, its numerator is of the first order
BiquadCoefficients matched(const Prototype& t, double hz, double rateHz, const BiquadCoefficients& plain)
{
    constexpr int kRounds = 10;
    std::vector<Point> points = pointsOf(t, hz, rateHz);
    const double still = power(t.over, 0.0) / power(t.under, 0.0); // at 0 Hz, kept exactly
    const auto n = long(points.size());
    const int free = t.over[1] == 0.0 && t.over[2] == 0.0 ? 3 : 4;
    Eigen::MatrixXd left(n, free);
    Eigen::VectorXd right(n);
    double best = kTooFar;
    BiquadCoefficients found = plain;
    for (int round = 0; round < kRounds; ++round) {
        for (long i = 0; i < n; ++i) {
            const Point& at = points[std::size_t(i)];
            const double weight = 1.0 / (at.under * at.wanted);
            left(i, 0) = weight * at.q;
            left(i, 1) = -weight * at.wanted * at.q;
            left(i, 2) = -weight * at.wanted * at.pq4;
            if (free == 4) left(i, 3) = weight * at.pq4;
            right[i] = weight * (at.wanted - still) * at.p;
        }
        const Eigen::VectorXd c = left.colPivHouseholderQr().solve(right);
        const Squared over{still, std::max(c[0], 1e-12), free == 4 ? c[3] : 0.0}, under{1.0, c[1], c[2]};
        for (Point& at : points) at.under = std::max(1e-9, at.gain(under));
        const double worst = worstOf(over, under, points);
        if (!(worst < best) || !isOver0(under) || !isOver0(over)) continue; // a section, and its inverse
        best = worst;
        const auto b = rootOf(over), a = rootOf(under);
        found = {b[0] / a[0], b[1] / a[0], b[2] / a[0], a[1] / a[0], a[2] / a[0]};
    }
    return found;
}

/// A boost's section turned upside down: what takes away is just what would have been added.
BiquadCoefficients inverse(const BiquadCoefficients& c)
{
    return {1.0 / c.b0, c.a1 / c.b0, c.a2 / c.b0, c.b1 / c.b0, c.b2 / c.b0};
}

bool isFarBelow(double hz, double rateHz) { return hz < 0.002 * rateHz; }

} // namespace

BiquadCoefficients matchedLowPass(double cutoffHz, double q, double rateHz)
{
    const auto plain = lowPass(cutoffHz, q, rateHz);
    return matched({{1.0, 0.0, 0.0}, {1.0, 1.0 / q, 1.0}}, cutoffHz, rateHz, plain);
}

BiquadCoefficients matchedLowPass(double cutoffHz, double rateHz)
{
    const double k = std::tan(std::numbers::pi * std::min(cutoffHz / rateHz, 0.499));
    const BiquadCoefficients plain{k / (1.0 + k), k / (1.0 + k), 0.0, (k - 1.0) / (k + 1.0), 0.0};
    return matched({{1.0, 0.0, 0.0}, {1.0, 1.0, 0.0}}, cutoffHz, rateHz, plain);
}

BiquadCoefficients matchedBell(double hz, double db, double q, double rateHz)
{
    if (db < 0.0) return inverse(matchedBell(hz, -db, q, rateHz));
    const auto plain = bell(hz, db, q, rateHz);
    if (isFarBelow(hz, rateHz)) return plain;
    const double a = std::pow(10.0, db / 40.0);
    return matched({{1.0, a / q, 1.0}, {1.0, 1.0 / (a * q), 1.0}}, hz, rateHz, plain);
}

BiquadCoefficients matchedHighShelf(double hz, double db, double rateHz)
{
    if (db < 0.0) return inverse(matchedHighShelf(hz, -db, rateHz));
    const double a = std::pow(10.0, db / 40.0), s = std::sqrt(2.0 * a); // A (A s^2 + s sqrt(2A) + 1) / (s^2 + ... + A)
    return matched({{a, a * s, a * a}, {a, s, 1.0}}, hz, rateHz, highShelf(hz, db, rateHz));
}

} // namespace gristle::core
