#pragma once

#include "core/rig/circuit/tube.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <memory>
#include <vector>

namespace gristle::core {

/// A tube together with the resistances that the rest of the circuit shows to it within one step: its currents as
/// functions of the two voltages that would stand at it without them. v = p + F i(v) is
/// solved when the table is made, so playing takes a look into it and no iteration. Source of the method: Borin, De
/// Poli and Rocchesso 2000, Elimination of delay-free loops in discrete-time models of nonlinear acoustic systems; Yeh,
/// Abel and Smith 2010.
class TubeTable {
public:
    /// What the currents (into the grid; into the plate, less that through its conductance) do to the voltages, ohms.
    using Loading = std::array<std::array<double, 2>, 2>;

    struct Spec {
        TubeLaw law;
        Loading loading;
        double plateS;        ///< the plate's own conductance that stands in the linear circuit, siemens
        double plateV, spanV; ///< the table reaches from plateV - spanV to plateV + spanV
        float plateA; ///< what at() leaves out of the plate's current: about that at rest, so that little is rounded
        bool operator==(const Spec&) const = default;
    };

    explicit TubeTable(const Spec& spec); ///< allocates; some 5 ms
    const Spec& spec() const noexcept { return spec_; }
    /// Two numbers side by side: at two places, or of grid and plate.
    typedef double Two __attribute__((vector_size(16)));
    /// At each of two places the grid's current, and the plate's less that through plateS and plateA: cubic over the
    /// grid's voltage (Catmull and Rom), straight over the plate's, over which the currents of a loaded tube bend
    /// little, and softly at a pentode's knee, which folds less. Rounding to single precision is some 20 nV at a grid,
    /// below any tube's own noise. @param grid, plate  volts of both places without the currents. Inlined, so that it
    /// is made for the processor that its caller is made for.
    [[gnu::always_inline]] inline std::array<Two, 2> at(Two grid, Two plate) const noexcept
    {
        typedef unsigned long long Bits __attribute__((vector_size(16)));
        const Two by = (grid - centreV_) - centreLean_ * plate, width = widthV_ + widthLean_ * plate;
        const Two size = std::bit_cast<Two>(std::bit_cast<Bits>(by) & ~(1ull << 63)),
                  least = width > kLeastWidthV ? width : kLeastWidthV + Two{};
        // Half a place low, so that rounding finds the place before.
        const Two x = by / (size + kBend * least) * kScale + (kMiddle - 0.5), y = (plate - lowPlate_) * perVolt_;
        const Two low = y > 0.0 ? y : Two{}, held = low < kPlate - 1.001 ? low : kPlate - 1.001 + Two{};
        // Added to that, a number is rounded to a whole one, whose last bits say which: quicker than a conversion.
        constexpr double kRounds = 6755399441055744.0; // 1.5 * 2^52
        const Two column = x + kRounds, row = (held - 0.5) + kRounds;
        const Bits columns = std::bit_cast<Bits>(column) & (kColumns - 1ull),
                   rows = std::bit_cast<Bits>(row) & (kPlate - 1ull);
        const Two along = (x + 0.5) - (column - kRounds), across = held - (row - kRounds);
        Eight a, b;
        weigh(rows[0] * kRow + 2 * columns[0], float(along[0]), float(across[0]), a);
        weigh(rows[1] * kRow + 2 * columns[1], float(along[1]), float(across[1]), b);
        return {sum(a), sum(b)};
    }

private:
    // A line repeats its ends twice, so that a place at the outermost has four columns about it.
    static constexpr int kGrid = 254, kPlate = 64, kColumns = 256;
    static constexpr std::size_t kRow = 2 * kColumns + 32; // rows do not share their places in the first cache
    // Four columns of two currents in one register, as wide as the processor has them.
    typedef float Eight __attribute__((vector_size(32), aligned(4), may_alias));

    /// Four columns of both currents, weighted. @param from  the first  @param t, ty  parts of a column, of a row
    [[gnu::always_inline]] inline void weigh(std::size_t from, float t, float ty, Eight& out) const noexcept
    {
        constexpr Eight kLinear{-0.5f, -0.5f, 0.0f, 0.0f, 0.5f, 0.5f, 0.0f, 0.0f},
            kSquare{1.0f, 1.0f, -2.5f, -2.5f, 2.0f, 2.0f, -0.5f, -0.5f},
            kCube{-0.5f, -0.5f, 1.5f, 1.5f, -1.5f, -1.5f, 0.5f, 0.5f},
            kOne{0.0f, 0.0f, 1.0f, 1.0f, 0.0f, 0.0f, 0.0f, 0.0f};
        const Eight weight = (kOne + t * kLinear) + t * t * (kSquare + t * kCube);
        const float* const at = values_.data() + from;
        const Eight &low = *reinterpret_cast<const Eight*>(at), &high = *reinterpret_cast<const Eight*>(at + kRow);
        out = weight * (low + ty * (high - low));
    }
    [[gnu::always_inline]] static inline Two sum(const Eight& of) noexcept
    {
        typedef float Four __attribute__((vector_size(16)));
        const Four half = __builtin_shufflevector(of, of, 0, 1, 2, 3) + __builtin_shufflevector(of, of, 4, 5, 6, 7);
        return Two{double(half[0] + half[2]), double(half[1] + half[3])};
    }

    // The grid's places lie between the line along which the plate's current ends and the one along which the grid's
    // begins; most of the bending is at these two. In widths from the middle, most of them within kBend of it.
    static constexpr double kBend = 0.5, kFar = 200.0, kLeastWidthV = 1.0;
    static constexpr double kFarthest = kFar / (kFar + kBend), kScale = 0.5 * (kGrid - 1) / kFarthest,
                            kMiddle = 0.5 * (kGrid - 1) + 1.0;
    double widthAt(double plate) const noexcept { return std::max(kLeastWidthV, widthV_ + widthLean_ * plate); }

    Spec spec_;
    double centreV_ = 0.0, centreLean_ = 0.0, widthV_ = 0.0, widthLean_ = 0.0; ///< lines over the plate's voltage
    double lowPlate_, perVolt_;
    std::vector<float> values_; ///< kPlate rows of kGrid pairs
};

/// The tables for these tubes, of the loadings rounded to five digits: those that were made before, and the others made
/// anew by all cores. What a control does not change is not made again. Keeps the last hundred, some 14 MB. Any thread.
std::vector<std::shared_ptr<const TubeTable>> tubeTables(std::vector<TubeTable::Spec> specs);

} // namespace gristle::core
