#pragma once

#include "core/rig/circuit/tube_table.h"

#include <cmath>

namespace gristle::core {

/// A tube's port in time. Its current is a mean over the two straight lines that its voltages went along, under a
/// triangle that rises to the sample between: what folds from about the sampling rate comes with a double zero. A
/// triangle is late by a sample, which the weights here make up for to the second order; what a current that follows
/// its voltages straightly would still lack is a third of its second difference, which has a double zero, too, and is
/// added. So such a current is exact at any steepness, and a loop through the port no less stable than the circuit.
/// Source: Parker, Zavalishin and Le Bivic 2016, Reducing the aliasing of nonlinear waveshaping using continuous-time
/// convolution; Strang and Fix 1973 on zeros and what a kernel leaves alone. The integrals by Simpson's rule, where the
/// law bends by trapezoids in quarters, as a current of two voltages has no antiderivative in a table.
struct TubePort {
    using Two = TubeTable::Two; ///< of grid and plate

    Two volts{};  ///< without the currents
    Two now{};    ///< the current there
    Two past{};   ///< what the lines before give to the next current
    Two offset{}; ///< what the table lacks at rest

    /// So that a circuit at rest stays there: `now` is what the law says.
    [[gnu::always_inline]] inline void rest(const TubeTable& table) noexcept
    {
        offset = now - lookUp(table, volts, volts)[0];
        past = -0.5 * now;
    }
    /// What the currents are, less `expected`. The arithmetic of what is known before `to` stands apart: the next tube
    /// waits for this one.
    [[gnu::always_inline]] inline Two step(const TubeTable& table, Two expected, Two to) noexcept
    {
        constexpr double kThird = 1.0 / 3.0, kSixth = 1.0 / 6.0;
        const Two known = (past - expected) + 1.5 * offset, middle = 0.5 * (volts + to);
        const auto [end, half] = lookUp(table, to, middle);
        Two out = (known + 0.5 * end) + half;
        const Two next = end + offset, mid = half + offset, bent = mid - 0.5 * (now + next);
        Two nextPast = kSixth * now - kThird * (mid + next);
        if (std::abs(bent[0]) + std::abs(bent[1]) >= table.bentA()) [[unlikely]] { // by trapezoids in quarters
            const auto [first, third] = lookUp(table, 0.5 * (volts + middle), 0.5 * (middle + to));
            const Two early = first + offset, late = third + offset;
            constexpr double kPart = 1.0 / 96.0;
            out = (past - expected) + kPart * ((42.0 * early + 36.0 * mid) + (30.0 * late + 45.0 * next) - 9.0 * now);
            nextPast = kPart * ((21.0 * now - 18.0 * early - 12.0 * mid) - (6.0 * late + 33.0 * next));
        }
        past = nextPast, now = next, volts = to;
        return out;
    }

private:
    [[gnu::always_inline]] static inline std::array<Two, 2> lookUp(const TubeTable& table, Two a, Two b) noexcept
    {
        return table.at(Two{a[0], b[0]}, Two{a[1], b[1]});
    }
};

} // namespace gristle::core
