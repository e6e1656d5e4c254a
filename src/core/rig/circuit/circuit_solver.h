#pragma once

#include "core/rig/circuit/circuit_form.h"
#include "core/rig/circuit/tube_port.h"

#include <memory>

namespace gristle::core {

/// All that a section of a circuit remembers from one sample to the next.
struct SectionMoment {
    std::vector<double> held;                ///< the motions first; see CircuitForm
    std::vector<TubePort> ports;             ///< of each tube
    std::vector<double> before, last, third; ///< the currents of the samples before
    double ahead = 0.0;                      ///< what it gave to the section behind, less that at rest
    double back = 0.0, backBefore = 0.0;     ///< to the one before, now and a sample ago
};
using CircuitMoment = std::vector<SectionMoment>; ///< of each section

/// A netlist at work, one sample after the other, without iteration: its CircuitForm, tube after tube in the order of
/// the signal. What a later tube does to an earlier one is taken from the samples before; as the plates' own resistance
/// stands in the linear part, little is left of it. So a grid wants some 100 kilohms between itself and the plate
/// before. Source: Yeh, Abel and Smith 2010, Automated physical modeling of nonlinear audio circuits.
///
/// Up to two sections, the second a sample behind the first, so that their tubes stand side by side in one register: a
/// tube waits for the one before, and half of them wait at the same time. What the second is to the first is taken from
/// the samples before, too.
class CircuitSolver {
public:
    /// Makes the form: allocates; some 10 ms a tube. The netlist has an input and an output.
    CircuitSolver(const Netlist& netlist, double rateHz);
    /// Of sections, see CircuitForm::ofSections.
    CircuitSolver(std::span<const Netlist> sections, double rateHz);
    ~CircuitSolver();
    CircuitSolver(CircuitSolver&&) noexcept;
    CircuitSolver& operator=(CircuitSolver&&) noexcept;

    /// Volts in, volts out, less the output's voltage at rest; late by so many samples.
    double step(double volts) noexcept;
    std::size_t late() const noexcept { return forms().size() - 1; }
    /// Goes on from where another one is: the same parts, other values of its resistors. Another circuit is left alone.
    void takeOver(const CircuitSolver& before) noexcept;
    void reset() noexcept;                                                         ///< at rest
    const std::vector<std::shared_ptr<const CircuitForm>>& forms() const noexcept; ///< of each section
    CircuitMoment moment() const;                                                  ///< allocates
    void goOnFrom(const CircuitMoment& moment) noexcept;                           ///< of a solver of the same form
    double restVolts() const noexcept;                                             ///< of the output
    std::vector<TubeCurrents> restCurrents() const;                                ///< of each tube
    std::vector<std::array<double, 2>> restVoltages() const; ///< grid and plate against cathode, of each tube

private:
    struct State;
    std::unique_ptr<State> state_;
};

} // namespace gristle::core
