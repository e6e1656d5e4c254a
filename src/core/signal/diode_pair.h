#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

/// Two diodes across each other beside a resistor, driven by a current: the voltage v with
/// i = v / R + 2 Is sinh(v / nVt). Static, with antiderivative anti-aliasing of the second order: each line from sample
/// to sample is cut in four, and the means of seven quarters are weighted by a triangle. Late by 7/8 of a sample.
/// The law stands in a table of cubics, the antiderivative is theirs, so the two agree to the last digit.
/// Sources: Shockley 1949 (the law); Parker, Zavalishin, Le Bivic 2016 (the antiderivative method).
class DiodePair {
public:
    struct Parts {
        double ohm = 500e3;
        double saturationA = 2.5e-9, slopeV = 0.045; ///< Is, n Vt of a common small-signal diode
    };
    explicit DiodePair(const Parts& parts);
    void reset() noexcept;
    /// In place: amperes to volts.
    void process(std::span<double> x) noexcept;
    /// The law itself, without anti-aliasing.
    double voltsAt(double amperes) const noexcept;

private:
    typedef double Four __attribute__((vector_size(32)));
    /// From one node to the next: v / nVt over i / 2 Is as a cubic of 0 to 1, and its integral up to the first node.
    struct alignas(64) Cell {
        Four cubic{};
        double area = 0.0;
    };
    struct Places { // of four currents: the voltage / nVt, and its integral over the current
        Four values, areas;
    };
    void look(const Four& sizes, Places& out) const noexcept;

    Parts parts_;
    std::vector<Cell> cells_;
    double current_ = 0.0, value_ = 0.0, area_ = 0.0; ///< of the last sample, in 2 Is and nVt
    double back_ = 0.0;                               ///< weighted means of the line before it
};

} // namespace gristle::core
