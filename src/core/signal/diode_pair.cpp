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
constexpr std::uint64_t kFirst = std::uint64_t(1023) << kBits, kOne = std::uint64_t(1023) << 52,
                        kSign = std::uint64_t(1) << 63;

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

/// @param sizes  of currents in 2 Is
[[gnu::always_inline]] inline void DiodePair::find(const Four& sizes, Spot& out) noexcept
{
    constexpr double kFarthest = double(std::uint64_t(1) << kOctaves) * (1.0 - 1e-9);
    const Four raised = 1.0 + sizes, farthest = kFarthest + Four{}, from = raised < farthest ? raised : farthest;
    const Bits bits = Bits(from), cells = (bits >> kRest) - kFirst,
               inside = (bits & ((std::uint64_t(1) << kRest) - 1)) | kOne, octave = ((bits >> 52) - kBits) << 52;
    out.along = (Four(inside) - 1.0) * double(1 << kBits);
    out.width = Four(octave);
    std::memcpy(out.cells, &cells, sizeof out.cells);
}

/// The area is that of the very cubics that give the values.
[[gnu::always_inline]] inline void DiodePair::look(const Spot& spot, Four& values, Four& areas) const noexcept
{
    const Four t = spot.along;
    const Cell &a = cells_[spot.cells[0]], &b = cells_[spot.cells[1]], &c = cells_[spot.cells[2]],
               &d = cells_[spot.cells[3]];
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
    const Four square = t * t;
    values = (p + t * m0) + square * (c2 + t * c3);
    areas = area + (spot.width * t) * ((p + t * (0.5 * m0)) + square * (kThird * c2 + t * (0.25 * c3)));
}

double DiodePair::voltsAt(double amperes) const noexcept
{
    Spot spot;
    Four values, areas;
    find(std::abs(amperes) / (2.0 * parts_.saturationA) + Four{}, spot);
    look(spot, values, areas);
    return std::copysign(values[0] * parts_.slopeV, amperes);
}

void DiodePair::process(std::span<double> x) noexcept
{
    for (std::size_t at = 0; at < x.size(); at += kChunk) chunk(x.subspan(at, std::min(kChunk, x.size() - at)));
}

/// One short loop after the other: what a sample waits for is passed by what the next ones can do.
GRISTLE_VECTORISED
void DiodePair::chunk(std::span<double> x) noexcept
{
    constexpr double kNear = 1e-5; // of the current: the difference of two areas has few digits left
    // Lagrange's cubic through four samples, in quarters from the second to the third.
    constexpr double kA = 7.0 / 128.0, kB = 105.0 / 128.0, kC = 35.0 / 128.0, kD = 5.0 / 128.0, kE = 1.0 / 16.0,
                     kF = 9.0 / 16.0;
    constexpr double kTop = 0.125; // the spline's gain falls by that of the square of the frequency in radians a sample
    const double unit = 1.0 / (2.0 * parts_.saturationA), scale = parts_.slopeV / 64.0;
    const std::size_t count = x.size();
    State& s = state_;
    double in[3 + kChunk];
    in[0] = s.x0, in[1] = s.x1, in[2] = s.x2;
    for (std::size_t i = 0; i < count; ++i) in[3 + i] = unit * x[i];
    s.x0 = in[count], s.x1 = in[count + 1], s.x2 = in[count + 2];
    Quarters currents, values, areas, means;
    currents.last(0) = s.current, values.last(0) = s.value, areas.last(0) = s.area;
    Spot spots[kChunk];
    for (std::size_t i = 0; i < count; ++i) {
        const Four at = (Four{-kA, -kE, -kD, 0.0} * in[i] + Four{kB, kF, kC, 0.0} * in[i + 1]) +
                        (Four{kC, kF, kB, 1.0} * in[i + 2] + Four{-kD, -kE, -kA, 0.0} * in[i + 3]);
        currents[i] = at;
        find(Four(Bits(at) & ~kSign), spots[i]);
    }
    for (std::size_t i = 0; i < count; ++i) {
        Four value, area;
        look(spots[i], value, area);
        values[i] = Four(Bits(value) | (Bits(currents[i]) & kSign));
        areas[i] = area;
    }
    // Means of the voltage over the quarters; where they are short, the line between the voltages is as good.
    for (std::size_t i = 0; i < count; ++i) {
        const Four at = currents[i], step = at - currents.behind(i);
        const auto isNear = Four(Bits(step) & ~kSign) <= kNear * Four(Bits(at) & ~kSign);
        const Four slope = (areas[i] - areas.behind(i)) / (isNear ? 1.0 + Four{} : step);
        means[i] = isNear ? 0.5 * (values.behind(i) + values[i]) : slope;
    }
    s.current = currents.last(count), s.value = values.last(count), s.area = areas.last(count);
    double splines[2 + kChunk];
    splines[0] = s.behind, splines[1] = s.last;
    Four last = s.means, before = s.meansBefore;
    for (std::size_t i = 0; i < count; ++i) {
        const Four now = means[i], of = Four{10.0, 6.0, 3.0, 1.0} * now + Four{6.0, 10.0, 12.0, 12.0} * last +
                                        Four{0.0, 0.0, 1.0, 3.0} * before;
        splines[2 + i] = scale * ((of[0] + of[2]) + (of[1] + of[3]));
        before = last, last = now;
    }
    s.means = last, s.meansBefore = before;
    s.behind = splines[count], s.last = splines[count + 1];
    for (std::size_t i = 0; i < count; ++i)
        x[i] = (1.0 + 2.0 * kTop) * splines[i + 1] - kTop * (splines[i] + splines[i + 2]);
}

} // namespace gristle::core
