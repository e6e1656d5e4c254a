#pragma once

#include "core/rig/circuit/tube_table.h"

#include <cmath>

namespace gristle::core {

/// A tube's port in time. Its current is the mean over the straight line that its voltages go along from the last
/// sample to this one, which keeps most of what would fold from far above out of the circuit; that is half a sample
/// late, so a parabola through the last three means gives the value of now. Source: Parker, Zavalishin and Le Bivic
/// 2016, Reducing the aliasing of nonlinear waveshaping using continuous-time convolution; the mean by Simpson's rule,
/// where the law bends by trapezoids in quarters, as a current of two voltages has no antiderivative in a table.
struct TubePort {
    using Two = TubeTable::Two; ///< of grid and plate

    Two volts{};                          ///< without the currents
    Two now{}, mean{}, before{}, third{}; ///< the current there; means of the last line and of the one before it
    Two offset{};                         ///< what the table lacks at rest

    /// So that a circuit at rest stays there: `now` is what the law says.
    [[gnu::always_inline]] inline void rest(const TubeTable& table) noexcept
    {
        offset = now - lookUp(table, volts, volts)[0];
        mean = before = third = now;
    }
    /// What the currents are, less `expected`. The arithmetic of what is known before `to` stands apart: the next tube
    /// waits for this one.
    [[gnu::always_inline]] inline Two step(const TubeTable& table, Two expected, Two to) noexcept
    {
        constexpr double kBentA = 1e-5; // off a straight line
        // A parabola through four currents whose neighbours have these means, at its end.
        constexpr double kLine = 1.875;
        const Two past = (0.625 * before - 0.125 * third - 1.375 * mean) - expected;
        // Simpson's rule for the line.
        constexpr double kEnd = 1.0 / 6.0, kHalf = 2.0 / 3.0;
        const Two known = past + kLine * (kEnd * now + (kEnd + kHalf) * offset);
        const Two middle = 0.5 * (volts + to);
        const auto [end, half] = lookUp(table, to, middle);
        Two out = (known + kLine * kEnd * end) + kLine * kHalf * half;
        const Two next = end + offset, straight = 0.5 * (now + next), bent = half + offset - straight;
        Two line = straight + kHalf * bent;
        if (std::abs(bent[0]) + std::abs(bent[1]) >= kBentA) [[unlikely]] { // by trapezoids in quarters
            const auto [early, late] = lookUp(table, 0.5 * (volts + middle), 0.5 * (middle + to));
            line = 0.25 * (early + late + half + straight + 3.0 * offset);
            out = past + kLine * line;
        }
        third = before, before = mean, mean = line, now = next, volts = to;
        return out;
    }

private:
    [[gnu::always_inline]] static inline std::array<Two, 2> lookUp(const TubeTable& table, Two a, Two b) noexcept
    {
        return table.at(Two{a[0], b[0]}, Two{a[1], b[1]});
    }
};

} // namespace gristle::core
