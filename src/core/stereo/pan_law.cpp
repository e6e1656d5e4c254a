#include "core/stereo/pan_law.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

double exponentOf(PanLaw law) noexcept { return law == PanLaw::Minus3 ? 1.0 : law == PanLaw::Minus4_5 ? 1.5 : 2.0; }

} // namespace

PanGains panMono(double place, PanLaw law) noexcept
{
    const double p = std::clamp(place, -100.0, 100.0);
    if (p == -100.0) return {1.0, 0.0}; // exactly, where cos 90 degrees is not quite 0
    if (p == 100.0) return {0.0, 1.0};
    const double angle = (p + 100.0) / 200.0 * std::numbers::pi / 2.0;
    const double power = exponentOf(law);
    return {std::pow(std::cos(angle), power), std::pow(std::sin(angle), power)};
}

PanGains panStereo(double place, PanLaw law) noexcept
{
    const PanGains at = panMono(place, law), centre = panMono(0.0, law);
    return {std::min(1.0, at.left / centre.left), std::min(1.0, at.right / centre.right)};
}

Result<PanLaw> parsePanLaw(const std::string& text)
{
    for (const PanLaw law : {PanLaw::Minus3, PanLaw::Minus4_5, PanLaw::Minus6})
        if (text == panLawText(law)) return law;
    return Error{ErrorCode::Usage, "law \"" + text + "\": it is no place law", "take 3, 4.5 or 6"};
}

const char* panLawText(PanLaw law) noexcept
{
    return law == PanLaw::Minus3 ? "3" : law == PanLaw::Minus4_5 ? "4.5" : "6";
}

} // namespace gristle::core
