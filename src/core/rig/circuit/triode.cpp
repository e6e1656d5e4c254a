#include "core/rig/circuit/triode.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

/// ln(1 + e^x) and its slope.
struct Softplus {
    double value, slope;
    explicit Softplus(double x) noexcept
        : value(x > 30.0 ? x : std::log1p(std::exp(x))), slope(x > 30.0 ? 1.0 : 1.0 / (1.0 + std::exp(-x)))
    {}
};

} // namespace

TubeCurrents triodeCurrents(const Triode& t, double vg, double vp) noexcept
{
    TubeCurrents out;
    const Softplus diode(t.gridSharpness * vg);
    out.grid = t.gridPerveance * std::pow(diode.value / t.gridSharpness, t.gridExponent);
    if (vp <= 0.0) return out;
    const Softplus space(t.kp * (1.0 / t.mu + vg / std::sqrt(t.kvb + vp * vp)));
    out.plate = 2.0 / t.kg * std::pow(vp / t.kp * space.value, t.exponent);
    return out;
}

TubeSlopes triodeSlopes(const Triode& t, double vg, double vp) noexcept
{
    TubeSlopes out;
    const Softplus diode(t.gridSharpness * vg);
    out.gridByGrid =
        t.gridPerveance * t.gridExponent * std::pow(diode.value / t.gridSharpness, t.gridExponent - 1.0) * diode.slope;
    if (vp <= 0.0) return out;
    const double root = std::sqrt(t.kvb + vp * vp);
    const Softplus space(t.kp * (1.0 / t.mu + vg / root));
    const double e = vp / t.kp * space.value;
    const double outer = 2.0 / t.kg * t.exponent * std::pow(e, t.exponent - 1.0);
    out.plateByGrid = outer * vp * space.slope / root;
    out.plateByPlate = outer * (space.value / t.kp - vp * space.slope * vg * vp / (root * root * root));
    return out;
}

} // namespace gristle::core
