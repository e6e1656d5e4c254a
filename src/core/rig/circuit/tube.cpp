#include "core/rig/circuit/tube.h"

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

/// A current and its slopes by grid and plate voltage.
struct Plate {
    double current = 0.0, byGrid = 0.0, byPlate = 0.0;
};

Plate plateOf(const Triode& t, double vg, double vp) noexcept
{
    const double root = std::sqrt(t.kvb + vp * vp);
    const Softplus space(t.kp * (1.0 / t.mu + vg / root));
    const double e = vp / t.kp * space.value;
    const double slope = 2.0 / t.kg * t.exponent * std::pow(e, t.exponent - 1.0);
    return {2.0 / t.kg * std::pow(e, t.exponent), slope * vp * space.slope / root,
            slope * (space.value / t.kp - vp * space.slope * vg * vp / (root * root * root))};
}

Plate plateOf(const Pentode& p, double vg, double vp) noexcept
{
    const Softplus space(p.kp * (1.0 / p.mu + vg / p.screenV));
    const double e = p.screenV / p.kp * space.value, knee = std::atan(vp / p.kvb);
    const double whole = 2.0 / p.kg * std::pow(e, p.exponent);
    return {whole * knee, 2.0 / p.kg * p.exponent * std::pow(e, p.exponent - 1.0) * space.slope * knee,
            whole / p.kvb / (1.0 + vp * vp / (p.kvb * p.kvb))};
}

} // namespace

const GridDiode& diodeOf(const TubeLaw& law) noexcept
{
    const auto* const triode = std::get_if<Triode>(&law);
    return triode ? triode->diode : std::get_if<Pentode>(&law)->diode;
}

TubeCurrents tubeCurrents(const TubeLaw& law, double vg, double vp) noexcept
{
    TubeCurrents out;
    const GridDiode& d = diodeOf(law);
    out.grid = d.perveance * std::pow(Softplus(d.sharpness * vg).value / d.sharpness, d.exponent);
    if (vp > 0.0) out.plate = std::visit([&](const auto& l) { return plateOf(l, vg, vp).current; }, law);
    return out;
}

TubeSlopes tubeSlopes(const TubeLaw& law, double vg, double vp) noexcept
{
    TubeSlopes out;
    const GridDiode& d = diodeOf(law);
    const Softplus diode(d.sharpness * vg);
    out.gridByGrid = d.perveance * d.exponent * std::pow(diode.value / d.sharpness, d.exponent - 1.0) * diode.slope;
    if (vp > 0.0) {
        const Plate plate = std::visit([&](const auto& l) { return plateOf(l, vg, vp); }, law);
        out.plateByGrid = plate.byGrid;
        out.plateByPlate = plate.byPlate;
    }
    return out;
}

} // namespace gristle::core
