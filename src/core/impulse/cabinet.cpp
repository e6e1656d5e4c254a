#include "core/impulse/cabinet.h"

#include <algorithm>

namespace gristle::core {

namespace {

/// Figures of our own, of the size that such drivers have; docs/loudspeaker.md.
Cone soft()
{
    Cone out;
    out.modes = {{1750.0, 4.0, 2.0}, {2400.0, 7.0, 1.3}, {3300.0, 4.0, 3.0}, {4600.0, 3.0, 4.0}};
    return out;
}
Cone firm()
{
    Cone out;
    out.breakUpHz = 1600.0, out.inductanceHz = 7000.0;
    out.resonanceHz = 85.0, out.resonanceQ = 0.9, out.splDb = 100.0;
    out.modes = {{2000.0, 3.0, 2.0}, {2900.0, 8.0, 1.2}, {3900.0, 4.0, 3.0}, {5400.0, 3.0, 4.0}};
    return out;
}
Cone small()
{
    Cone out;
    out.radiusM = 0.105, out.capRadiusM = 0.022, out.breakUpHz = 1600.0;
    out.inductanceHz = 6000.0, out.resonanceHz = 115.0, out.splDb = 96.0;
    out.modes = {{2100.0, 4.0, 2.0}, {3100.0, 6.0, 1.4}, {4600.0, 4.0, 3.0}};
    return out;
}

Cabinet box(const Cone& cone, int drivers, double width, double height, double depth, bool open)
{
    Cabinet out;
    out.cone = cone, out.drivers = drivers;
    out.widthM = width, out.heightM = height, out.depthM = depth, out.isOpenBack = open;
    out.spacingM = 2.0 * cone.radiusM + 0.05;
    return out;
}

} // namespace

std::span<const CabinetKind> cabinetKinds()
{
    static const std::vector<CabinetKind> kinds = [] {
        std::vector<CabinetKind> out{
            {"one-open", "one driver, open", "one wide driver, open at the back, early break-up",
             box(soft(), 1, 0.50, 0.45, 0.25, true)},
            {"one-closed", "one driver, closed", "one wide driver, closed, late break-up",
             box(firm(), 1, 0.46, 0.46, 0.30, false)},
            {"small-open", "one small driver, open", "one small driver, open at the back",
             box(small(), 1, 0.38, 0.36, 0.20, true)},
            {"two-open", "two drivers, open", "two wide drivers, open at the back, early break-up",
             box(soft(), 2, 0.68, 0.50, 0.27, true)},
            {"two-closed", "two drivers, closed", "two wide drivers, closed, late break-up",
             box(firm(), 2, 0.72, 0.50, 0.33, false)},
            {"four-closed", "four drivers, closed", "four wide drivers, closed, late break-up",
             box(firm(), 4, 0.76, 0.75, 0.36, false)}};
        return out;
    }();
    return kinds;
}

Result<Cabinet> cabinetOf(std::string_view key)
{
    const auto kinds = cabinetKinds();
    const auto at = std::ranges::find(kinds, key, &CabinetKind::key);
    if (at != kinds.end()) return at->cabinet;
    std::string all;
    for (const CabinetKind& k : kinds) all += (all.empty() ? "" : ", ") + k.key;
    return Error{ErrorCode::Usage, "cabinet: there is none called '" + std::string(key) + "'", "choose of " + all};
}

} // namespace gristle::core
