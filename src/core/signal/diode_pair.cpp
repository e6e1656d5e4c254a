#include "core/signal/diode_pair.h"

#include "core/units/vectorised.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <cstring>

namespace gristle::core {

namespace {

// Nodes lie where 1 + i / 2 Is has one of its first bits: so many in each octave, wide ones where the law is a
// logarithm. Its place in the table is what stands in a number's exponent and first bits.
constexpr int kBits = 6, kOctaves = 35; // to some 60 A, which nothing here gives
constexpr int kNodes = kOctaves << kBits;
constexpr int kRest = 52 - kBits; // bits of a double that tell where between two nodes
constexpr std::uint64_t kFirst = std::uint64_t(1023) << kBits, kOne = std::uint64_t(1023) << 52;

} // namespace

DiodePair::DiodePair(const Parts& parts) : parts_(parts)
{
    const double ratio = parts.slopeV / (parts.ohm * 2.0 * parts.saturationA); // of the conductances at rest
    struct Node { // v / nVt at i / 2 Is, and its slope there
        double value = 0.0, slope = 0.0;
    };
    std::vector<Node> nodes(kNodes + 1);
    for (int k = 1; k <= kNodes; ++k) {
        const double octave = std::exp2(k >> kBits), part = double(k & ((1 << kBits) - 1)) / (1 << kBits);
        const double x = octave * (1.0 + part) - 1.0;
        // ratio y + sinh y = x: Newton from above, where the function is convex, so each step comes nearer.
        double y = std::asinh(x);
        for (int round = 0; round < 60; ++round) {
            const double by = (ratio * y + std::sinh(y) - x) / (ratio + std::cosh(y));
            y -= by;
            if (std::abs(by) < 1e-14 * (1.0 + y)) break;
        }
        nodes[std::size_t(k)] = {y, 1.0 / (ratio + std::cosh(y))};
    }
    nodes[0].slope = 1.0 / (ratio + 1.0);
    cells_.resize(kNodes);
    double area = 0.0;
    for (int k = 0; k < kNodes; ++k) {
        // The cubic with the values and slopes of both ends, integrated.
        const Node &from = nodes[std::size_t(k)], &to = nodes[std::size_t(k) + 1];
        const double width = std::exp2((k >> kBits) - kBits), by = to.value - from.value;
        const double m0 = from.slope * width, m1 = to.slope * width;
        Cell& cell = cells_[std::size_t(k)];
        cell.cubic = Four{from.value, m0, 3.0 * by - 2.0 * m0 - m1, m0 + m1 - 2.0 * by};
        cell.area = area;
        area += 0.5 * width * (from.value + to.value) + width * width * (from.slope - to.slope) / 12.0;
    }
}

void DiodePair::reset() noexcept { state_ = {}; }

/// @param sizes  of currents in 2 Is. The area is that of the very cubics that give the values.
[[gnu::always_inline]] inline void DiodePair::look(const Four& sizes, Places& out) const noexcept
{
    typedef std::uint64_t Bits __attribute__((vector_size(32)));
    constexpr double kFarthest = double(std::uint64_t(1) << kOctaves) * (1.0 - 1e-9);
    const Four raised = 1.0 + sizes, from = raised < kFarthest ? raised : kFarthest + Four{};
    Bits bits;
    std::memcpy(&bits, &from, sizeof bits);
    const Bits place = (bits >> kRest) - kFirst;
    const Bits inside = (bits & ((std::uint64_t(1) << kRest) - 1)) | kOne, octave = ((bits >> 52) - kBits) << 52;
    Four t, width;
    std::memcpy(&t, &inside, sizeof t);
    std::memcpy(&width, &octave, sizeof width);
    t = (t - 1.0) * double(1 << kBits);
    const Cell &a = cells_[place[0]], &b = cells_[place[1]], &c = cells_[place[2]], &d = cells_[place[3]];
    const Four area{a.area, b.area, c.area, d.area};
    // Four cubics turned into four vectors, one for each power.
    const Four ab02 = __builtin_shufflevector(a.cubic, b.cubic, 0, 4, 2, 6),
               ab13 = __builtin_shufflevector(a.cubic, b.cubic, 1, 5, 3, 7),
               cd02 = __builtin_shufflevector(c.cubic, d.cubic, 0, 4, 2, 6),
               cd13 = __builtin_shufflevector(c.cubic, d.cubic, 1, 5, 3, 7);
    const Four p = __builtin_shufflevector(ab02, cd02, 0, 1, 4, 5),
               m0 = __builtin_shufflevector(ab13, cd13, 0, 1, 4, 5),
               c2 = __builtin_shufflevector(ab02, cd02, 2, 3, 6, 7),
               c3 = __builtin_shufflevector(ab13, cd13, 2, 3, 6, 7);
    constexpr double kThird = 1.0 / 3.0;
    out.values = p + t * (m0 + t * (c2 + t * c3));
    out.areas = area + width * t * (p + t * (0.5 * m0 + t * (kThird * c2 + t * (0.25 * c3))));
}

double DiodePair::voltsAt(double amperes) const noexcept
{
    Places at;
    look(std::abs(amperes) / (2.0 * parts_.saturationA) + Four{}, at);
    return std::copysign(at.values[0] * parts_.slopeV, amperes);
}

GRISTLE_VECTORISED
void DiodePair::process(std::span<double> x) noexcept
{
    constexpr double kNear = 1e-5; // of the current: the difference of two areas has few digits left
    // Lagrange's cubic through four samples, in quarters from the second to the third.
    constexpr double kA = 7.0 / 128.0, kB = 105.0 / 128.0, kC = 35.0 / 128.0, kD = 5.0 / 128.0, kE = 1.0 / 16.0,
                     kF = 9.0 / 16.0;
    constexpr double kTop = 0.125; // the spline's gain falls by that of the square of the frequency in radians a sample
    const double unit = 1.0 / (2.0 * parts_.saturationA), scale = parts_.slopeV / 64.0;
    State s = state_; // in registers while the loop runs
    for (double& sample : x) {
        const double to = sample * unit;
        const Four currents = (Four{-kA, -kE, -kD, 0.0} * s.x0 + Four{kB, kF, kC, 0.0} * s.x1) +
                              (Four{kC, kF, kB, 1.0} * s.x2 + Four{-kD, -kE, -kA, 0.0} * to);
        const Four step = currents - Four{s.current, currents[0], currents[1], currents[2]},
                   sizes = currents < 0.0 ? -currents : currents;
        Places at;
        look(sizes, at);
        const Four values = currents < 0.0 ? -at.values : at.values;
        // Means of the voltage over the quarters; where they are short, the line between the voltages is as good.
        const Four valuesBefore{s.value, values[0], values[1], values[2]},
            areasBefore{s.area, at.areas[0], at.areas[1], at.areas[2]};
        const auto isNear = (step < 0.0 ? -step : step) <= kNear * sizes;
        const Four slope = (at.areas - areasBefore) / (isNear ? 1.0 + Four{} : step),
                   m = isNear ? 0.5 * (valuesBefore + values) : slope;
        const double mean = scale * ((10.0 * m[0] + 6.0 * m[1]) + (3.0 * m[2] + m[3]) + s.next);
        sample = (1.0 + 2.0 * kTop) * s.last - kTop * (mean + s.behind);
        s = {.x0 = s.x1,
             .x1 = s.x2,
             .x2 = to,
             .current = currents[3],
             .value = values[3],
             .area = at.areas[3],
             .next = (6.0 * m[0] + 10.0 * m[1]) + 12.0 * (m[2] + m[3]) + s.afterNext,
             .afterNext = m[2] + 3.0 * m[3],
             .behind = s.last,
             .last = mean};
    }
    state_ = s;
}

} // namespace gristle::core
