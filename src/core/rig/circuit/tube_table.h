#pragma once

#include "core/rig/circuit/tube.h"

#include <array>
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
    /// Grid current, and the plate's less that through plateS. @param grid, plate  volts without the currents
    std::array<double, 2> at(double grid, double plate) const noexcept;

private:
    static constexpr int kGrid = 512, kPlate = 96;
    static constexpr double kBend = 8.0; // volts: about half of the grid's places lie within it
    static constexpr double kFarV = 600.0;

    double lowPlate_, perVolt_;
    std::vector<std::array<float, 2>> values_; ///< kPlate rows of kGrid
};

} // namespace gristle::core
