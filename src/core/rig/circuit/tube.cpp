#include "core/rig/circuit/tube.h"

#include <cmath>

namespace gristle::core {

namespace {

/// ln(1 + e^x) and its slope.
struct Softplus {
    double value, slope;
    explicit Softplus(double x) noexcept : value(x), slope(1.0)
    {
        if (x > 30.0) return;
        const double e = std::exp(x);
        value = std::log1p(e);
        slope = e / (1.0 + e);
    }
};

/// x^k and its slope; 0 where x is.
struct Power {
    double value = 0.0, slope = 0.0;
    Power(double x, double k) noexcept
    {
        if (x <= 0.0) return;
        value = std::pow(x, k);
        slope = k * value / x;
    }
};

/// A current and its slopes by grid and plate voltage.
struct Plate {
    double current = 0.0, byGrid = 0.0, byPlate = 0.0;
};

Plate plateOf(const Triode& t, double vg, double vp) noexcept
{
    const double root = std::sqrt(t.kvb + vp * vp);
    const Softplus space(t.kp * (1.0 / t.mu + vg / root));
    const double e = vp / t.kp * space.value;
    const Power power(e, t.exponent);
    const double slope = 2.0 / t.kg * power.slope;
    return {2.0 / t.kg * power.value, slope * vp * space.slope / root,
            slope * (space.value / t.kp - vp * space.slope * vg * vp / (root * root * root))};
}

Plate plateOf(const Pentode& p, double vg, double vp) noexcept
{
    const Softplus space(p.kp * (1.0 / p.mu + vg / p.screenV));
    const double e = p.screenV / p.kp * space.value, knee = std::atan(vp / p.kvb);
    const Power power(e, p.exponent);
    return {2.0 / p.kg * power.value * knee, 2.0 / p.kg * power.slope * space.slope * knee,
            2.0 / p.kg * power.value / p.kvb / (1.0 + vp * vp / (p.kvb * p.kvb))};
}

} // namespace

const GridDiode& diodeOf(const TubeLaw& law) noexcept
{
    const auto* const triode = std::get_if<Triode>(&law);
    return triode ? triode->diode : std::get_if<Pentode>(&law)->diode;
}

TubePoint tubePoint(const TubeLaw& law, double vg, double vp) noexcept
{
    const GridDiode& d = diodeOf(law);
    const Softplus diode(d.sharpness * vg);
    const Power power(diode.value / d.sharpness, d.exponent);
    TubePoint out;
    out.currents.grid = d.perveance * power.value;
    out.slopes.gridByGrid = d.perveance * power.slope * diode.slope;
    if (vp > 0.0) {
        const Plate plate = std::visit([&](const auto& l) { return plateOf(l, vg, vp); }, law);
        out.currents.plate = plate.current;
        out.slopes.plateByGrid = plate.byGrid;
        out.slopes.plateByPlate = plate.byPlate;
    }
    return out;
}

} // namespace gristle::core
