#pragma once

#include "core/units/result.h"

namespace gristle::core {

/// What a sound in the centre loses on each side: -3 dB keeps the power (the default), -6 dB the voltage of the sum.
enum class PanLaw { Minus3, Minus4_5, Minus6 };

struct PanGains {
    double left = 1.0;
    double right = 1.0;
};

/// Gains of a mono sound at `place`, -100 (left) to 100 (right): cos and sin of an angle that runs from 0 to 90
/// degrees, to the power 1, 1.5 or 2. Source: the sine law of constant power; the powers give -4.52 and -6.02 dB at the
/// centre.
PanGains panMono(double place, PanLaw law) noexcept;

/// Gains of a sound that is stereo already: its own picture stays and the far side is turned down, 1 and 1 at the
/// centre.
PanGains panStereo(double place, PanLaw law) noexcept;

/// "3", "4.5" or "6". @error Usage
Result<PanLaw> parsePanLaw(const std::string& text);
const char* panLawText(PanLaw law) noexcept;

} // namespace gristle::core
