#pragma once

#include <variant>

namespace gristle::core {

/// The grid of a tube as a diode. Source: Dempwolf and Zoelzer 2011, A physically-motivated triode model for circuit
/// simulations: a smooth form of the three-halves law. Values of our own, near those of common small triodes.
struct GridDiode {
    double perveance = 6e-4, sharpness = 10.0, exponent = 1.35;
    bool operator==(const GridDiode&) const = default;
};

/// A triode's plate current by a smooth form of the three-halves law. Source: Koren 1996, Improved vacuum tube models
/// for SPICE simulations. Values of our own, near those of common small triodes of high gain.
struct Triode {
    double mu = 95.0, exponent = 1.4, kg = 1100.0, kp = 580.0, kvb = 300.0;
    GridDiode diode{};
    double gridPlateF = 1.8e-12,
           gridCathodeF = 0.0; ///< that to the cathode is nothing beside what the gain makes of this
    bool operator==(const Triode&) const = default;
};

/// A power pentode whose screen is held at a steady voltage. Source: Koren 1996, as above. Values of our own, near
/// those of common ones for some 25 W of plate dissipation.
struct Pentode {
    double screenV = 360.0;
    double mu = 9.0, exponent = 1.35, kg = 1000.0, kp = 55.0, kvb = 24.0;
    GridDiode diode{2e-3, 6.0, 1.35};
    double gridPlateF = 0.0, gridCathodeF = 20e-12; ///< a screen keeps the plate away; the little left is in this
    bool operator==(const Pentode&) const = default;
};

using TubeLaw = std::variant<Triode, Pentode>;

struct TubeCurrents {
    double grid = 0.0, plate = 0.0; ///< amperes, into the electrode
};
/// The slopes of both currents, siemens.
struct TubeSlopes {
    double gridByGrid = 0.0, plateByGrid = 0.0, plateByPlate = 0.0;
};

struct TubePoint {
    TubeCurrents currents;
    TubeSlopes slopes;
};

/// @param gridV, plateV  against the cathode
TubePoint tubePoint(const TubeLaw& law, double gridV, double plateV) noexcept;
inline TubeCurrents tubeCurrents(const TubeLaw& law, double gridV, double plateV) noexcept
{
    return tubePoint(law, gridV, plateV).currents;
}
inline TubeSlopes tubeSlopes(const TubeLaw& law, double gridV, double plateV) noexcept
{
    return tubePoint(law, gridV, plateV).slopes;
}
const GridDiode& diodeOf(const TubeLaw& law) noexcept;

} // namespace gristle::core
