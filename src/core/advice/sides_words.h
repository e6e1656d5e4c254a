#pragma once

#include "core/stereo/complement.h"

#include <string>

namespace gristle::core {

/// What each side brings, in words. @param first, second  their names
std::string sidesWords(const Complement& sides, const std::string& first, const std::string& second);

/// Whether the sides would do better with their rigs exchanged: the sum then keeps more of the attack, by as much as
/// one hears.
bool isBetterExchanged(const Complement& now, const Complement& exchanged) noexcept;

} // namespace gristle::core
