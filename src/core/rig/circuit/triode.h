#pragma once

namespace gristle::core {

/// A triode as a law of currents. Plate: Koren 1996, Improved vacuum tube models for SPICE simulations: a smooth form
/// of the three-halves law. Grid: Dempwolf and Zoelzer 2011, A physically-motivated triode model for circuit
/// simulations: a smooth form of the same law for a diode. The values are of our own, near those of common small
/// triodes.
struct Triode {
    double mu = 95.0, exponent = 1.4, kg = 1100.0, kp = 580.0, kvb = 300.0;
    double gridPerveance = 6e-4, gridSharpness = 10.0, gridExponent = 1.35;
    double gridPlateF = 1.7e-12, gridCathodeF = 2.0e-12;
};

struct TubeCurrents {
    double grid = 0.0, plate = 0.0; ///< amperes, into the electrode
};

/// @param gridV, plateV  against the cathode
TubeCurrents triodeCurrents(const Triode& triode, double gridV, double plateV) noexcept;

/// The slopes of both currents: grid to grid, grid to plate, plate to plate voltage; siemens.
struct TubeSlopes {
    double gridByGrid = 0.0, plateByGrid = 0.0, plateByPlate = 0.0;
};
TubeSlopes triodeSlopes(const Triode& triode, double gridV, double plateV) noexcept;

} // namespace gristle::core
