#pragma once

#include "core/signal/fft.h"

#include <optional>
#include <span>

namespace gristle::core {

struct Detuning {
    double cents = 0.0; ///< of the second, higher above 0
    double doubt = 0.0; ///< its standard error, by how the partials differ
};
/// The second's pitch over the first's by partials that both have, 70 Hz to 3 kHz, each against its own, so that the
/// strings' stiffness does not matter: their weighted median. None where they share fewer than two.
/// @param a, b  of one length @param fft  four times as long, or longer
std::optional<Detuning> centsBetween(std::span<const float> a, std::span<const float> b, double rateHz, RealFft& fft);

} // namespace gristle::core
