#include "core/rig/circuit/tube_table.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

double left(const TubeCurrents& i, double plateS, std::array<double, 2> v) noexcept { return i.plate - plateS * v[1]; }

/// Solves v = p + F i(v) from a first guess by Newton's method with halved steps.
std::array<double, 2> solve(const TubeLaw& t, const TubeTable::Loading& f, double plateS, std::array<double, 2> p,
                            std::array<double, 2> v)
{
    const auto miss = [&](std::array<double, 2> x) {
        const TubeCurrents i = tubeCurrents(t, x[0], x[1]);
        const double plate = left(i, plateS, x);
        return std::array<double, 2>{x[0] - p[0] - f[0][0] * i.grid - f[0][1] * plate,
                                     x[1] - p[1] - f[1][0] * i.grid - f[1][1] * plate};
    };
    const auto size = [](std::array<double, 2> m) { return std::hypot(100.0 * m[0], m[1]); };
    std::array<double, 2> m = miss(v);
    for (int round = 0; round < 100 && size(m) > 1e-10; ++round) {
        const TubeSlopes s = tubeSlopes(t, v[0], v[1]);
        const double byPlate = s.plateByPlate - plateS, byGrid = s.plateByGrid;
        const double a = 1.0 - f[0][0] * s.gridByGrid - f[0][1] * byGrid, b = -f[0][1] * byPlate,
                     c = -f[1][0] * s.gridByGrid - f[1][1] * byGrid, d = 1.0 - f[1][1] * byPlate;
        const double det = a * d - b * c;
        const std::array<double, 2> step{(d * m[0] - b * m[1]) / det, (a * m[1] - c * m[0]) / det};
        double part = 1.0;
        for (int half = 0; half < 30; ++half, part *= 0.5) {
            const std::array<double, 2> next{v[0] - part * step[0], v[1] - part * step[1]};
            if (const auto there = miss(next); size(there) < size(m)) {
                v = next, m = there;
                break;
            }
        }
    }
    return v;
}

} // namespace

TubeTable::TubeTable(const TubeLaw& law, const Loading& f, double plateS, double plateV, double spanV)
    : lowPlate_(plateV - spanV), perVolt_((kPlate - 1) / (2.0 * spanV)), values_(2 * std::size_t(kGrid) * kPlate)
{
    const double farthest = kFarV / (kFarV + kBend);
    for (int row = 0; row < kPlate; ++row) {
        const double plate = lowPlate_ + row / perVolt_;
        std::array<double, 2> v{0.0, plate};
        for (int column = 0; column < kGrid; ++column) {
            const double x = farthest * (2.0 * column / (kGrid - 1) - 1.0), grid = kBend * x / (1.0 - std::abs(x));
            v = solve(law, f, plateS, {grid, plate}, v);
            const TubeCurrents i = tubeCurrents(law, v[0], v[1]);
            const std::size_t at = 2 * (std::size_t(row) * kGrid + std::size_t(column));
            values_[at] = float(i.grid);
            values_[at + 1] = float(left(i, plateS, v));
        }
    }
}

void TubeTable::makeExactAt(double grid, double plate, const std::array<double, 2>& currents) noexcept
{
    offset_ = {};
    const auto found = at(grid, plate);
    offset_ = {currents[0] - found[0], currents[1] - found[1]};
}

} // namespace gristle::core
