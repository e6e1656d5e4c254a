#pragma once

#include <array>

namespace gristle::core {

// What the clues of a clipped take are worth, in log odds. Made by bench/fit-clipping; not to be changed by hand.
inline constexpr double kClipBias = -0.754;
inline constexpr std::array<double, 8> kClipWeights{
    2.1746,  // half waves at the ceiling
    0.3423,  // half waves under it
    1.4645,  // corners: likelier at it than under it
    -1.5321, // corners at it less those under it
    -5.1465, // corners under it
    2.3390,  // flat to 4 %: of those at it
    0.2736,  // one side only
    0.5398,  // samples within 12 % of it, of those within 25 %
};

} // namespace gristle::core
