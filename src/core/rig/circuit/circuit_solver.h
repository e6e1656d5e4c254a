#pragma once

#include "core/rig/circuit/circuit_form.h"
#include "core/rig/circuit/tube_port.h"

#include <memory>

namespace gristle::core {

/// All that a circuit remembers from one sample to the next.
struct CircuitMoment {
    std::vector<double> held;                ///< the motions first; see CircuitForm
    std::vector<TubePort> ports;             ///< of each tube
    std::vector<double> before, last, third; ///< the currents of the samples before
};

/// A netlist at work, one sample after the other, without iteration: its CircuitForm, tube after tube in the order of
/// the signal. What a later tube does to an earlier one is taken from the samples before; as the plates' own resistance
/// stands in the linear part, little is left of it. So a grid wants some 100 kilohms between itself and the plate
/// before. Source: Yeh, Abel and Smith 2010, Automated physical modeling of nonlinear audio circuits.
class CircuitSolver {
public:
    /// Makes the form: allocates; some 10 ms a tube. The netlist has an input and an output.
    CircuitSolver(const Netlist& netlist, double rateHz);
    ~CircuitSolver();
    CircuitSolver(CircuitSolver&&) noexcept;
    CircuitSolver& operator=(CircuitSolver&&) noexcept;

    /// Volts in, volts out, less the output's voltage at rest.
    double step(double volts) noexcept;
    /// Goes on from where another one is: the same parts, other values of its resistors. Another circuit is left alone.
    void takeOver(const CircuitSolver& before) noexcept;
    void reset() noexcept; ///< at rest
    const std::shared_ptr<const CircuitForm>& form() const noexcept;
    const CircuitMoment& moment() const noexcept;
    void goOnFrom(const CircuitMoment& moment) noexcept;     ///< of a solver of the same form
    double restVolts() const noexcept;                       ///< of the output
    std::vector<TubeCurrents> restCurrents() const;          ///< of each tube
    std::vector<std::array<double, 2>> restVoltages() const; ///< grid and plate against cathode, of each tube

private:
    struct State;
    std::unique_ptr<State> state_;
};

} // namespace gristle::core
