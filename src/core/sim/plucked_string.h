#pragma once

#include <cstdint>
#include <vector>

namespace gristle::core {

/// One plucked note as a delay loop with loss. Source: Karplus and Strong 1983, with the tuning, pick-position and
/// decay extensions of Jaffe and Smith 1983. No inharmonicity: a stand-in, not a measurement of a guitar.
struct PluckedNote {
    double hz = 110.0;
    double velocity = 1.0;  ///< 0 to 1: also opens the top
    double seconds = 1.0;   ///< held; then damped within 40 ms
    bool muted = false;     ///< palm on the bridge: short and dull
    double pickAt = 0.13;   ///< part of the string from the bridge
    double pickupAt = 0.09; ///< part of the string from the bridge, where it is heard
    std::uint32_t seed = 1; ///< of the pick's scrape
};

/// The note at `rateHz`, from its onset on; peak about 1 at full velocity.
std::vector<float> pluck(const PluckedNote& note, double rateHz);

} // namespace gristle::core
