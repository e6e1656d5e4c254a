#pragma once

#include "core/units/result.h"

#include <optional>
#include <span>
#include <vector>

namespace gristle::core {

/// The DI of a performance, moved to where another recording of the same performance has it: what that one is judged
/// by, as a driven amplifier bends attacks and hides soft notes. Both one channel at the same rate; as long as the DI.
/// @error Usage where these are not one performance, and what alignTo gives
Result<std::vector<float>> diInPlaceOf(std::span<const float> heard, std::span<const float> di, double rateHz);

/// The same where the other may be a DI: its peaks are 3 dB more over its RMS, and it is the same performance; none
/// else. Cost: an alignment, where there are such peaks.
std::optional<std::vector<float>> asItsDi(std::span<const float> heard, std::span<const float> other, double rateHz);

} // namespace gristle::core
