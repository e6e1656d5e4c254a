#pragma once

#include "core/rig/circuit/triode.h"

#include <array>
#include <vector>

namespace gristle::core {

/// What a tube does for small signals about a working point; that much of it stands in the linear circuit.
struct TubeLine {
    double plateS = 0.0; ///< plate current by plate voltage
    double gridS = 0.0;  ///< plate current by grid voltage
};

/// A triode together with the resistances that the rest of the circuit shows to it within one step: its currents, less
/// the plate's by its TubeLine, as functions of the two voltages that would stand at it without them. v = p + F i(v) is
/// solved when the table is made, so playing takes a look into it and no iteration. Source of the method: Borin, De
/// Poli and Rocchesso 2000, Elimination of delay-free loops in discrete-time models of nonlinear acoustic systems; Yeh,
/// Abel and Smith 2010.
class TubeTable {
public:
    /// What the currents (into the grid, what is left of that into the plate) do to the voltages, ohms.
    using Loading = std::array<std::array<double, 2>, 2>;

    /// @param plateV, spanV  the table reaches from plateV - spanV to plateV + spanV. Allocates; some 10 ms.
    TubeTable(const Triode& triode, const Loading& loading, const TubeLine& line, double plateV, double spanV);
    /// Grid current, and what is left of the plate's. @param grid, plate  volts without the currents
    std::array<double, 2> at(double grid, double plate) const noexcept;

private:
    static constexpr int kGrid = 512, kPlate = 96;
    static constexpr double kBend = 8.0; // volts: about half of the grid's places lie within it
    static constexpr double kFarV = 600.0;

    double lowPlate_, perVolt_;
    std::vector<std::array<float, 2>> values_; ///< kPlate rows of kGrid
};

} // namespace gristle::core
