#pragma once

#include <array>

namespace gristle::core {

/// Octave bands of a guitar's sound: centres in Hz; each reaches half an octave either way.
inline constexpr std::array<double, 9> kOctaveHz{63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16000.0};
/// A number for each band.
using Octaves = std::array<double, kOctaveHz.size()>;

} // namespace gristle::core
