#pragma once

#include <array>

namespace gristle::core {

// What the clues of a clipped take are worth, in log odds. Made by bench/fit-clipping; not to be changed by hand.
inline constexpr double kClipBias = -0.905;
inline constexpr std::array<double, 8> kClipWeights{
    1.8168,  // half waves at the ceiling
    0.1638,  // half waves under it
    1.6859,  // corners: likelier at it than under it
    -3.3545, // corners at it less those under it
    -1.7453, // corners under it
    1.9590,  // flat to 4 %: of those at it
    0.2373,  // one side only
    0.3513,  // samples within 12 % of it, of those within 25 %
};

} // namespace gristle::core
