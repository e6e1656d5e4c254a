#pragma once

#include "core/signal/clue_curves.h"

namespace gristle::core {

// Made by bench/fit-lacks; not to be changed by hand.
inline constexpr double kLackBias = 2.728;
inline constexpr std::array<ClueCurve, 12> kLackWeights{{
    {{-0.30, 1.61, 4.97, 7.76, 10.12, 13.03},
     {0.0, 2.154, 4.445, 3.794, 3.937, 4.994}}, // how sure the note is, log odds
    {{-10.00, -9.99, -5.19, -2.44, -0.97, 0.93}, {0.0, 0.634, -0.976, -3.228, -3.908, -2.065}}, // and one in the other
    {{0.00, 0.01, 1.47, 2.32, 3.50, 4.95}, {0.0, 0.186, -0.108, -0.347, -1.769, -0.846}},       // sharp there, log2
    {{-20.00, -9.72, -3.81, -1.60, -0.53, 0.42},
     {0.0, -0.822, -0.053, 1.508, 2.133, 2.011}}, // grows there over 60 ms, dB
    {{0.00, 8.65, 11.63, 15.21, 18.04, 19.60},
     {0.0, -0.978, -0.130, -0.257, -0.457, -0.049}}, // partials that come with it rise by, dB
    {{-20.00, -6.42, -0.55, 2.08, 12.36, 20.00},
     {0.0, -1.498, -2.355, -3.689, -4.892, -5.370}}, // three in four of them rise there by at most
    {{0.33, 0.70, 0.81, 0.89, 0.94, 0.98}, {0.0, -0.684, -0.430, 0.226, 0.592, 0.143}},    // spectra alike
    {{0.06, 0.12, 0.13, 0.24, 0.26, 0.50}, {0.0, -3.425, -1.144, -2.016, -0.389, -1.392}}, // the other's last, s
    {{0.07, 0.12, 0.13, 0.25, 0.26, 0.72}, {0.0, -1.081, -0.613, -1.904, -1.370, -2.553}}, // the next, s
    {{-20.00, -13.98, -8.24, -4.14, -0.04, 5.67},
     {0.0, -1.924, -1.915, -2.318, -1.360, -0.340}}, // what came with it is there, dB over expected
    {{-13.45, -3.91, 0.15, 3.23, 8.70, 19.76},
     {0.0, -0.067, 0.409, 0.878, 0.938, 0.522}}, // what was there before rings in the other, dB
    {{-20.00, -10.14, -4.24, -1.42, 0.69, 5.05},
     {0.0, 0.701, 0.500, 0.196, 0.007, -0.557}}, // the other is louder than expected, dB
}};

} // namespace gristle::core
