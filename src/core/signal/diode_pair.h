#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

/// Two diodes across each other beside a resistor, driven by a current: the voltage v with
/// i = v / R + 2 Is sinh(v / nVt). Static, with antiderivative anti-aliasing of the second order: each line from sample
/// to sample is cut in four, and the means of seven quarters are weighted by a triangle. Late by 7/8 of a sample.
/// Sources: Shockley 1949 (the law); Parker, Zavalishin, Le Bivic 2016 (the antiderivative method). The antiderivative
/// of v by i is v i - v^2 / 2R - 2 Is nVt (cosh(v / nVt) - 1), by parts.
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
    struct Place {
        double current = 0.0, volts = 0.0, area = 0.0; ///< the antiderivative
    };
    Place at(double amperes) const noexcept;
    static double mean(const Place& a, const Place& b) noexcept;

    Parts parts_;
    double ratio_;              ///< of the resistor's conductance to the diodes' at rest
    double perStep_;            ///< places of the table for each 1 of asinh(i / 2 Is)
    std::vector<double> table_; ///< v / nVt and its slope, in turns
    Place last_;
    double lastBack_ = 0.0;
};

} // namespace gristle::core
