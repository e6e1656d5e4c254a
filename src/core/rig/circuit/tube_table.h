#pragma once

#include "core/rig/circuit/tube.h"

#include <algorithm>
#include <array>
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

    explicit TubeTable(const Spec& spec); ///< allocates; some 10 ms
    const Spec& spec() const noexcept { return spec_; }
    /// Grid current, and the plate's less that through plateS and plateA. @param grid, plate  volts without the
    /// currents Inlined, so that it is made for the processor that its caller is made for.
    [[gnu::always_inline]] inline std::array<double, 2> at(double grid, double plate) const noexcept
    {
        const double by = grid - (centreV_ + centreLean_ * plate), width = widthAt(plate);
        const double x =
            std::clamp(kScale * by / (std::abs(by) + kBend * width) + 0.5 * (kGrid - 1), 1.0, kGrid - 2.001);
        const double y = std::clamp((plate - lowPlate_) * perVolt_, 1.0, kPlate - 2.001);
        const int column = int(x), row = int(y);
        // Four columns of two currents in one register, as wide as the processor has them; the weights of Catmull and
        // Rom as polynomials in all lanes at once. Rounding to single precision is some 20 nV at a grid, below any
        // tube's own noise.
        typedef float Eight __attribute__((vector_size(32), aligned(4)));
        typedef float Four __attribute__((vector_size(16), aligned(4)));
        const float tx = float(x - column), ty = float(y - row);
        constexpr Eight kLinear{-0.5f, -0.5f, 0.0f, 0.0f, 0.5f, 0.5f, 0.0f, 0.0f},
            kSquare{1.0f, 1.0f, -2.5f, -2.5f, 2.0f, 2.0f, -0.5f, -0.5f},
            kCube{-0.5f, -0.5f, 1.5f, 1.5f, -1.5f, -1.5f, 0.5f, 0.5f},
            kOne{0.0f, 0.0f, 1.0f, 1.0f, 0.0f, 0.0f, 0.0f, 0.0f};
        constexpr Four kLinearY{-0.5f, 0.0f, 0.5f, 0.0f}, kSquareY{1.0f, -2.5f, 2.0f, -0.5f},
            kCubeY{-0.5f, 1.5f, -1.5f, 0.5f}, kOneY{0.0f, 1.0f, 0.0f, 0.0f};
        const Eight wx = kOne + tx * (kLinear + tx * (kSquare + tx * kCube));
        const Four wy = kOneY + ty * (kLinearY + ty * (kSquareY + ty * kCubeY));
        const float* from = values_.data() + std::size_t(row - 1) * kRow + 2 * std::size_t(column - 1);
        const Eight *const a = reinterpret_cast<const Eight*>(from),
                           *const b = reinterpret_cast<const Eight*>(from + kRow),
                           *const c = reinterpret_cast<const Eight*>(from + 2 * kRow),
                           *const d = reinterpret_cast<const Eight*>(from + 3 * kRow);
        const Eight sum = wx * ((*a * wy[0] + *b * wy[1]) + (*c * wy[2] + *d * wy[3]));
        const Four half = __builtin_shufflevector(sum, sum, 0, 1, 2, 3) + __builtin_shufflevector(sum, sum, 4, 5, 6, 7);
        return {double(half[0] + half[2]), double(half[1] + half[3])};
    }

private:
    static constexpr int kGrid = 512, kPlate = 64,
                         kRow = 2 * kGrid + 32; // so that rows do not share their places in the first cache
    static constexpr double kFarV = 600.0;

    // The grid's places lie between the line along which the plate's current ends and the one along which the grid's
    // begins; most of the bending is at these two. In widths from the middle, most of them within kBend of it.
    static constexpr double kBend = 0.5, kFar = 200.0, kLeastWidthV = 1.0;
    static constexpr double kFarthest = kFar / (kFar + kBend), kScale = 0.5 * (kGrid - 1) / kFarthest;
    double widthAt(double plate) const noexcept { return std::max(kLeastWidthV, widthV_ + widthLean_ * plate); }

    Spec spec_;
    double centreV_ = 0.0, centreLean_ = 0.0, widthV_ = 0.0, widthLean_ = 0.0; ///< lines over the plate's voltage
    double lowPlate_, perVolt_;
    std::vector<float> values_; ///< kPlate rows of kGrid pairs
};

/// The tables for these tubes, of the loadings rounded to five digits: those that were made before, and the others made
/// anew by all cores. What a control does not change is not made again. Keeps the last hundred, some 16 MB. Any thread.
std::vector<std::shared_ptr<const TubeTable>> tubeTables(std::vector<TubeTable::Spec> specs);

} // namespace gristle::core
