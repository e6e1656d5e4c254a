#pragma once

#include "core/signal/clue_curves.h"

namespace gristle::core {

// Made by bench/fit-lacks; not to be changed by hand.
inline constexpr double kLackBias = -5.003;
inline constexpr std::array<ClueCurve, 12> kLackWeights{{
    {{-0.29, 1.69, 5.47, 8.20, 10.39, 13.16},
     {0.0, 2.367, 4.097, 3.809, 4.408, 4.937}}, // how sure the note is, log odds
    {{-10.00, -9.99, -5.85, -2.57, -1.04, 0.57}, {0.0, 0.993, -0.386, -2.121, -3.255, -4.065}}, // and one in the other
    {{0.00, 0.01, 1.28, 2.24, 3.47, 4.93}, {0.0, -0.258, -0.892, -1.059, -2.161, -0.817}},      // sharp there, log2
    {{-20.00, -12.58, -5.08, -1.89, -0.58, 0.44},
     {0.0, -1.298, -2.114, -2.156, -0.740, -1.290}}, // grows there over 60 ms, dB
    {{0.00, 9.25, 12.82, 16.65, 18.49, 19.82},
     {0.0, 0.394, 1.404, 2.412, 3.077, 3.497}}, // partials that come with it rise by, dB
    {{-20.00, -9.82, -1.11, 1.29, 12.33, 20.00},
     {0.0, -0.964, -1.287, -3.891, -5.832, -6.154}}, // three in four of them rise there by at most
    {{0.21, 0.65, 0.78, 0.86, 0.93, 0.98}, {0.0, -1.772, -1.564, -0.930, -0.616, -1.304}}, // spectra alike
    {{0.06, 0.12, 0.15, 0.25, 0.26, 0.50}, {0.0, -0.064, 1.226, 2.675, 3.028, 2.604}},     // the other's last, s
    {{0.09, 0.12, 0.17, 0.25, 0.38, 0.76}, {0.0, -0.257, -1.027, -0.270, 0.027, -1.441}},  // the next, s
    {{-20.00, -17.83, -9.77, -5.23, -0.65, 5.20},
     {0.0, -0.102, -1.379, -1.179, -1.120, -1.225}}, // what came with it is there, dB over expected
    {{-14.86, -4.32, -0.02, 3.92, 11.50, 20.00},
     {0.0, 1.562, 1.836, 2.774, 3.256, 4.407}}, // what was there before rings in the other, dB
    {{-20.00, -13.15, -5.57, -1.90, 0.80, 4.87},
     {0.0, 0.608, 1.802, 2.039, 2.248, 1.781}}, // the other is louder than expected, dB
}};

} // namespace gristle::core
