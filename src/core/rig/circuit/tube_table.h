#pragma once

#include "core/rig/circuit/tube.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
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
    /// Where in the table some voltages stand. @tparam V  as many numbers side by side as there are voltages
    template<typename V> struct Places {
        typedef unsigned long long Bits __attribute__((vector_size(sizeof(V))));
        Bits from;       ///< the first number of four columns
        V along, across; ///< parts of a column, of a row
    };
    /// @param grid, plate  volts without the currents. Inlined as what follows, so that it is made for the processor
    /// that its caller is made for.
    template<typename V> [[gnu::always_inline]] inline Places<V> placesAt(V grid, V plate) const noexcept
    {
        using Bits = typename Places<V>::Bits;
        const V by = (grid - centreV_) - centreLean_ * plate, width = widthV_ + widthLean_ * plate;
        const V size = std::bit_cast<V>(std::bit_cast<Bits>(by) & ~(1ull << 63)),
                least = width > kLeastWidthV ? width : kLeastWidthV + V{};
        // Half a place low, so that rounding finds the place before.
        const V x = by / (size + kBend * least) * kScale + (kMiddle - 0.5), y = (plate - lowPlate_) * perVolt_;
        const V low = y > 0.0 ? y : V{}, held = low < kPlate - 1.001 ? low : kPlate - 1.001 + V{};
        // Added to that, a number is rounded to a whole one, whose last bits say which: quicker than a conversion.
        constexpr double kRounds = 6755399441055744.0; // 1.5 * 2^52
        const V column = x + kRounds, row = (held - 0.5) + kRounds;
        const Bits columns = std::bit_cast<Bits>(column) & (kColumns - 1ull),
                   rows = std::bit_cast<Bits>(row) & (kPlate - 1ull);
        return {rows * kRow + 2 * columns, (x + 0.5) - (column - kRounds), held - (row - kRounds)};
    }
    /// Four columns of both currents, and of the next row: the grid's current, and the plate's less that through plateS
    /// and plateA, in turns.
    typedef float Eight __attribute__((vector_size(32)));
    [[gnu::always_inline]] inline void rowsAt(std::size_t from, Eight& row, Eight& next) const noexcept
    {
        std::memcpy(&row, values_.data() + from, sizeof row);
        std::memcpy(&next, values_.data() + from + kRow, sizeof next);
    }
    /// What each of the eight counts, whose sum is the current: cubic over the grid's voltage (Catmull and Rom),
    /// straight over the plate's, over which the currents of a loaded tube bend little, and softly at a pentode's knee,
    /// which folds less. Rounding to single precision is some 20 nV at a grid, below any tube's own noise.
    /// @tparam V  the eight of one place, or of more places side by side
    template<typename V>
    [[gnu::always_inline]] static inline void weigh(const V& row, const V& next, const V& along, const V& across,
                                                    V& out) noexcept
    {
        V one, linear, square, cube;
        constexpr float kOne[]{0.0f, 1.0f, 0.0f, 0.0f}, kLinear[]{-0.5f, 0.0f, 0.5f, 0.0f},
            kSquare[]{1.0f, -2.5f, 2.0f, -0.5f}, kCube[]{-0.5f, 1.5f, -1.5f, 0.5f};
        for (std::size_t i = 0; i < sizeof(V) / sizeof(float); ++i) {
            const std::size_t column = i % 8 / 2;
            one[i] = kOne[column], linear[i] = kLinear[column], square[i] = kSquare[column], cube[i] = kCube[column];
        }
        const V weight = (one + along * linear) + along * along * (square + along * cube);
        out = weight * (row + across * (next - row));
    }
    /// At each of two places.
    [[gnu::always_inline]] inline std::array<Two, 2> at(Two grid, Two plate) const noexcept
    {
        const Places<Two> places = placesAt(grid, plate);
        const auto currents = [&](int i) __attribute__((always_inline))
        {
            Eight row, next, of;
            rowsAt(places.from[i], row, next);
            weigh(row, next, float(places.along[i]) + Eight{}, float(places.across[i]) + Eight{}, of);
            typedef float Four __attribute__((vector_size(16)));
            const Four half = __builtin_shufflevector(of, of, 0, 1, 2, 3) + __builtin_shufflevector(of, of, 4, 5, 6, 7);
            return Two{double(half[0] + half[2]), double(half[1] + half[3])};
        };
        return {currents(0), currents(1)};
    }

private:
    // A line repeats its ends twice, so that a place at the outermost has four columns about it.
    static constexpr int kGrid = 254, kPlate = 64, kColumns = 256;
    static constexpr std::size_t kRow = 2 * kColumns + 32; // rows do not share their places in the first cache
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
