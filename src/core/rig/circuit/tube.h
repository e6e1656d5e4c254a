#pragma once

#include <variant>

namespace gristle::core {

/// The grid of a tube as a diode. Source: Dempwolf and Zoelzer 2011, A physically-motivated triode model for circuit
/// simulations: a smooth form of the three-halves law. Values of our own, near those of common small triodes.
struct GridDiode {
    double perveance = 6e-4, sharpness = 10.0, exponent = 1.35;
};

/// A triode's plate current by a smooth form of the three-halves law. Source: Koren 1996, Improved vacuum tube models
/// for SPICE simulations. Values of our own, near those of common small triodes of high gain.
struct Triode {
    double mu = 95.0, exponent = 1.4, kg = 1100.0, kp = 580.0, kvb = 300.0;
    GridDiode diode{};
    double gridPlateF = 1.7e-12, gridCathodeF = 2.0e-12;
};

/// A power pentode whose screen is held at a steady voltage. Source: Koren 1996, as above. Values of our own, near
/// those of common ones for some 25 W of plate dissipation.
struct Pentode {
    double screenV = 360.0;
    double mu = 9.0, exponent = 1.35, kg = 1000.0, kp = 55.0, kvb = 24.0;
    GridDiode diode{2e-3, 6.0, 1.35};
    double gridPlateF = 0.6e-12, gridCathodeF = 14e-12;
};

using TubeLaw = std::variant<Triode, Pentode>;

struct TubeCurrents {
    double grid = 0.0, plate = 0.0; ///< amperes, into the electrode
};
/// The slopes of both currents, siemens.
struct TubeSlopes {
    double gridByGrid = 0.0, plateByGrid = 0.0, plateByPlate = 0.0;
};

/// @param gridV, plateV  against the cathode
TubeCurrents tubeCurrents(const TubeLaw& law, double gridV, double plateV) noexcept;
TubeSlopes tubeSlopes(const TubeLaw& law, double gridV, double plateV) noexcept;
const GridDiode& diodeOf(const TubeLaw& law) noexcept;

} // namespace gristle::core
