#pragma once

#include "core/timing/onsets.h"

#include <utility>
#include <vector>

namespace gristle::core {

/// Indices into the onsets of two performances.
using OnsetPairs = std::vector<std::pair<std::size_t, std::size_t>>;

/// Onsets of both, paired in their order so that the sum of what each pair is apart and what is left over is least
/// (dynamic programming, Sakoe and Chiba 1978, with a cost for a note that one of them lacks).
/// @param movedS  by how much the second is later as a whole  Cost: grows with the length.
OnsetPairs pairedOnsets(const std::vector<Onset>& a, const std::vector<Onset>& b, double movedS);

} // namespace gristle::core
