#pragma once

#include <optional>
#include <span>
#include <string>
#include <vector>

namespace gristle::core {

/// The pitch of one sounding string.
struct Pitch {
    double hz = 0.0;                 ///< of the first partial
    double inharmonicity = 0.0;      ///< B of f_n = n f_0 sqrt(1 + B n^2)
    double inharmonicityDoubt = 0.0; ///< its standard error
    double doubtCents = 0.0;         ///< how far the partials are from that law, as the standard error of the pitch
};

/// Of one string, 30 to 1,200 Hz, 0.2 s or more of it; 0.3 s are enough for half a cent. A first guess from the
/// normalised autocorrelation; then each partial by itself: for a sound exp(st) under a window that vanishes at its
/// ends, s is minus the quotient of the spectra under the window's slope and under the window, whatever the damping;
/// then the stiff string's law through them. None where there is silence, noise, or more than one string.
/// Sources: McLeod and Wyvill 2005, A smarter way to find pitch (first guess); Hainsworth and Macleod 2003, Time
/// frequency reassignment (the quotient); Fletcher 1964 (the law); Nuttall 1981 (the window).
std::optional<Pitch> pitchOf(std::span<const float> mono, double rateHz);

/// The note of equal temperament that is nearest.
struct NearestNote {
    std::string name; ///< "F#2"; C4 is the middle one
    double cents = 0.0;
};
/// @param referenceHz  of A4
NearestNote nearestNote(double hz, double referenceHz = 440.0);

struct PitchMoment {
    double timeS = 0.0; ///< the middle of the window
    Pitch pitch;
};
/// Over a recording: windows of 0.3 s, ten a second, where one string sounds.
/// Cost: some 5 ms for each at 48 kHz, in proportion to the rate.
std::vector<PitchMoment> pitchesOver(std::span<const float> mono, double rateHz);

} // namespace gristle::core
