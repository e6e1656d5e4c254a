#pragma once

#include "core/rig/circuit/tube.h"

#include <algorithm>
#include <array>
#include <cmath>
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

    /// @param plateS  the plate's own conductance that stands in the linear circuit, siemens
    /// @param plateV, spanV  the table reaches from plateV - spanV to plateV + spanV. Allocates; some 10 ms.
    TubeTable(const TubeLaw& law, const Loading& loading, double plateS, double plateV, double spanV);
    /// Shifts all by the little that is missing at one place, so that a circuit at rest stays there.
    void makeExactAt(double grid, double plate, const std::array<double, 2>& currents) noexcept;
    /// Grid current, and the plate's less that through plateS. @param grid, plate  volts without the currents
    /// Inlined, so that it is made for the processor that its caller is made for.
    [[gnu::always_inline]] inline std::array<double, 2> at(double grid, double plate) const noexcept
    {
        constexpr double kScale = 0.5 * (kGrid - 1) * (kFarV + kBend) / kFarV;
        const double x = std::clamp(kScale * grid / (std::abs(grid) + kBend) + 0.5 * (kGrid - 1), 1.0, kGrid - 2.001);
        const double y = std::clamp((plate - lowPlate_) * perVolt_, 1.0, kPlate - 2.001);
        const int column = int(x), row = int(y);
        double wx[4], wy[4];
        weigh(x - column, wx);
        weigh(y - row, wy);
        // Summed in double: rounding here would be amplified like any noise of the tube.
        typedef float Four __attribute__((vector_size(16), aligned(4)));
        typedef double Lanes __attribute__((vector_size(32)));
        const float* from = values_.data() + 2 * (std::size_t(row - 1) * kGrid + std::size_t(column - 1));
        Lanes left{}, right{}; // two places of two currents, and two
        for (std::size_t r = 0; r < 4; ++r, from += 2 * kGrid) {
            left += __builtin_convertvector(*reinterpret_cast<const Four*>(from), Lanes) * wy[r];
            right += __builtin_convertvector(*reinterpret_cast<const Four*>(from + 4), Lanes) * wy[r];
        }
        return {offset_[0] + wx[0] * left[0] + wx[1] * left[2] + wx[2] * right[0] + wx[3] * right[2],
                offset_[1] + wx[0] * left[1] + wx[1] * left[3] + wx[2] * right[1] + wx[3] * right[3]};
    }

private:
    /// Catmull-Rom weights of four places around a part of a step.
    [[gnu::always_inline]] static inline void weigh(double t, double* w) noexcept
    {
        const double t2 = t * t, t3 = t2 * t;
        w[0] = 0.5 * (-t3 + 2.0 * t2 - t);
        w[1] = 0.5 * (3.0 * t3 - 5.0 * t2 + 2.0);
        w[2] = 0.5 * (-3.0 * t3 + 4.0 * t2 + t);
        w[3] = 0.5 * (t3 - t2);
    }

    static constexpr int kGrid = 320, kPlate = 64;
    static constexpr double kBend = 8.0; // volts: about half of the grid's places lie within it
    static constexpr double kFarV = 600.0;

    double lowPlate_, perVolt_;
    std::array<double, 2> offset_{};
    std::vector<float> values_; ///< kPlate rows of kGrid pairs
};

} // namespace gristle::core
