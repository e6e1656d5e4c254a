#pragma once

#include "core/rig/circuit/circuit_solver.h"

#include <cmath>
#include <complex>
#include <numbers>

namespace gristle::test {

/// Settled. @param hz  a whole number
inline std::complex<double> gainOf(core::CircuitSolver& solver, double hz, double rate)
{
    using namespace std::complex_literals;
    const auto settle = std::size_t(0.2 * rate), whole = std::size_t(rate); // whole periods
    std::complex<double> sum = 0.0;
    for (std::size_t i = 0; i < settle + whole; ++i) {
        const double angle = 2.0 * std::numbers::pi * std::fmod(hz * double(i) / rate, 1.0);
        const double y = solver.step(std::sin(angle));
        if (i >= settle) sum += y * std::polar(1.0, -angle);
    }
    return 2.0i * sum / double(whole);
}

/// A resistor in series, a capacitor to ground.
inline core::Netlist rung(double ohm, double farad)
{
    core::Netlist n;
    const auto in = n.node(), out = n.node();
    n.setInput(in);
    n.resistor(in, out, ohm);
    n.capacitor(out, core::Netlist::kGround, farad);
    n.setOutput(out);
    return n;
}

} // namespace gristle::test
