#pragma once

#include "core/rig/circuit/circuit_solver.h"
#include "support/simulator.h"

#include <cmath>
#include <numbers>
#include <numeric>

namespace gristle::test {

/// The power of what is left below 20 kHz of a signal.
inline double audiblePower(const std::vector<double>& x, double rate)
{
    constexpr int kHalf = 300;
    constexpr double kPi = std::numbers::pi;
    std::vector<double> taps;
    for (int k = -kHalf; k <= kHalf; ++k) {
        const double t = k == 0 ? 1e-9 : k, w = 0.5 + 0.5 * std::cos(kPi * k / (kHalf + 1.0));
        taps.push_back(w * std::sin(2.0 * kPi * 20000.0 / rate * t) / (kPi * t));
    }
    double power = 0.0;
    for (std::size_t i = 0; i + taps.size() <= x.size(); i += 8) { // over 20 kHz nothing is left to fold
        const double y = std::inner_product(taps.begin(), taps.end(), x.begin() + long(i), 0.0);
        power += y * y;
    }
    return power;
}

/// A tone that is loud for some 20 ms, then, from a whole cycle on, a hundredth of that: blocking, and recovery from
/// it.
struct LoudThenSoft {
    static constexpr double kSeconds = 0.04;
    double hz, volts;

    double turnS() const { return std::round(0.5 * kSeconds * hz) / hz; }
    double at(double t) const
    {
        return (t < turnS() ? volts : 0.01 * volts) * std::sin(2.0 * std::numbers::pi * hz * t);
    }
    QString formula() const ///< of the simulator
    {
        return QString("V=(time<%1?%2:%3)*sin(%4*time)")
            .arg(turnS(), 0, 'g', 15)
            .arg(volts)
            .arg(0.01 * volts)
            .arg(2.0 * std::numbers::pi * hz, 0, 'g', 15);
    }
};

/// What the solver is off by from what the simulator gave, a value each microsecond, below 20 kHz, in dB of the output;
/// NaN where it gave nothing.
inline double errorDb(const std::vector<double>& expected, std::span<const core::Netlist> sections,
                      const LoudThenSoft& input, double rate)
{
    if (expected.size() < 39000) return std::nan("");
    core::CircuitSolver solver(sections, rate);
    for (std::size_t i = 0; i < solver.late(); ++i) solver.step(input.at(double(i) / rate));
    std::vector<double> miss, truth;
    for (int i = 0; i < int(LoudThenSoft::kSeconds * rate) - 8; ++i) {
        truth.push_back(valueAt(expected, i / rate / 1e-6));
        miss.push_back(solver.step(input.at((i + double(solver.late())) / rate)) - truth.back());
    }
    return 10.0 * std::log10(audiblePower(miss, rate) / audiblePower(truth, rate));
}

/// The same of a netlist. @param sections  of the same circuit
inline double errorAgainstSimulator(const core::Netlist& n, std::span<const core::Netlist> sections, double hz,
                                    double volts, double rate)
{
    const LoudThenSoft input{hz, volts};
    return errorDb(simulate(n, input.formula().toStdString(), LoudThenSoft::kSeconds, 1e-6), sections, input, rate);
}

} // namespace gristle::test
