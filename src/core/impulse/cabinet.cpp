#include "core/impulse/cabinet.h"

#include <algorithm>

namespace gristle::core {

namespace {

/// Figures of our own, of the size that such drivers have, and so that what a microphone hears of them is inside what
/// is agreed on (docs/loudspeaker.md, "Held against practice").
Cone soft()
{
    Cone out;
    out.modes = {{2900.0, 6.7, 1.6}, {5000.0, 12.0, 0.8}};
    return out;
}
Cone firm()
{
    Cone out;
    out.breakUpHz = 1850.0, out.bendingHz = 590.0;
    out.neckHz = 5750.0, out.neckQ = 1.8, out.coilShare = 0.17, out.inductanceHz = 4400.0;
    out.resonanceHz = 85.0, out.resonanceQ = 0.9, out.splDb = 100.0;
    out.modes = {{3100.0, 8.8, 1.1}, {5500.0, 11.8, 1.1}};
    return out;
}
Cone small()
{
    Cone out;
    out.radiusM = 0.105, out.capRadiusM = 0.022, out.depthM = 0.0243, out.capHeightM = 0.0143;
    out.breakUpHz = 2000.0, out.bendingHz = 600.0, out.modeQ = 2.8;
    out.neckHz = 5900.0, out.neckQ = 2.5, out.coilShare = 0.105, out.inductanceHz = 4000.0;
    out.resonanceHz = 115.0, out.splDb = 96.0;
    out.modes = {{3600.0, 7.6, 1.6}, {5800.0, 9.5, 1.1}};
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
