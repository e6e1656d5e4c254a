#pragma once

#include <cstdint>
#include <vector>

namespace gristle::core {

/// The pitch of a string on its way: straight lines between the points.
struct PitchPoint {
    double seconds = 0.0; ///< from the onset
    double cents = 0.0;   ///< over the note as it was plucked
};

/// One plucked note of a string that moves in two planes, each a delay loop with loss and dispersion. Sources: Karplus
/// and Strong 1983, Jaffe and Smith 1983 (loop, pick position, decay); Van Duyne and Smith 1994 (stiffness as allpass
/// sections in the loop); Weinreich 1977 (two planes that decay and beat differently). A stand-in, not a measurement of
/// a guitar.
struct PluckedNote {
    double hz = 110.0;      ///< of the first partial
    double velocity = 1.0;  ///< 0 to 1: also opens the top
    double seconds = 1.0;   ///< held; then damped within 40 ms
    bool muted = false;     ///< palm on the bridge: short and dull
    double pickAt = 0.13;   ///< part of the string from the bridge
    double pickupAt = 0.09; ///< part of the string from the bridge, where it is heard
    /// B of f_n = n f_0 sqrt(1 + B n^2), as inharmonicityOf() gives it; 0 for a string without stiffness.
    double inharmonicity = 0.0;
    double secondPlane = 0.0;       ///< amplitude of the plane along the pick guard against the other, as it is heard
    double planeSplitCents = 0.7;   ///< how much higher it sounds: the bridge gives less that way
    std::vector<PitchPoint> travel; ///< bends and slides; empty: none
    double friction = 0.0;          ///< noise of the finger on the windings while the pitch travels, 0 to 1
    std::uint32_t seed = 1;         ///< of the pick's scrape
};

/// The note at `rateHz`, from its onset on; peak about 1 at full velocity.
std::vector<float> pluck(const PluckedNote& note, double rateHz);

/// What the pick is heard doing on the string before it lets go: noise over the top, a few milliseconds, ends at the
/// onset. On a wound string more than on a plain one; `amount` scales it.
std::vector<float> scrape(const PluckedNote& note, double amount, double rateHz);

/// A string as it is made.
struct StringMake {
    double coreMm = 0.4; ///< of a wound string its core, which carries the stiffness
    double tensionN = 75.0;
    bool wound = false;
};

/// B = pi^3 E d^4 / (64 T L^2) for steel (E = 200 GPa). Source: Fletcher 1964, Normal vibration frequencies of a stiff
/// piano string. @param lengthM  of the part that sounds
double inharmonicityOf(const StringMake& make, double lengthM) noexcept;

} // namespace gristle::core
