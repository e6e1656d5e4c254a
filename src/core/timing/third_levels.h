#pragma once

#include "core/timing/onsets.h"

#include <array>
#include <span>
#include <vector>

namespace gristle::core {

/// log10 of the powers of thirds of an octave from 70 Hz.
using ThirdLevels = std::array<double, 20>;

/// What sounds for the 100 ms that begin 5 ms behind each onset.
std::vector<ThirdLevels> levelsBehind(std::span<const float> x, const std::vector<Onset>& onsets, double rateHz);

} // namespace gristle::core
