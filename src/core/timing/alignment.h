#pragma once

#include "core/units/result.h"

#include <cstdint>
#include <filesystem>
#include <span>
#include <string>
#include <vector>

namespace gristle::core {

/// How two signals meet in a band, a third of an octave.
struct AlignedBand {
    double hz;
    double share;        ///< of the power of both that lies there
    double coherence;    ///< of the second that the first explains, 0 to 1
    double phaseDegrees; ///< of the second against the first once aligned, -180 to 180
    double lossBeforeDb, lossAfterDb;
};

/// What brings a second microphone on one performance together with the first.
struct Alignment {
    double delaySamples = 0.0; ///< of the direct sound's first arrival; positive: the second is later
    bool isInverted = false;
    double confidence = 0.0; ///< 0 to 1; strangers stay below 0.5
    /// Power of both over the power of their sum, dB: alike -3.01, unrelated 0.
    double lossBeforeDb = 0.0, lossAfterDb = 0.0;
    double leastLossDb = 0.0; ///< if all frequencies met in phase
    bool isAlike = false;     ///< both have the same response: the delay is one for all frequencies
    std::vector<AlignedBand> bands;
};

/// Of the second how much the first explains: mean over the bands, a few loud harmonics not being the whole of it.
double meanCoherence(const Alignment& alignment) noexcept;

/// Distance that sound travels in that time, at 343 m/s.
double metresOf(double delaySamples, double rateHz) noexcept;

/// Delay and polarity of `other` against `reference`, each one channel of the same performance at the same rate.
///
/// Coarsely by the correlation of whitened spectra, its first peak that is half as high as the highest; then, where
/// both have the same response, by the slope of the cross spectrum's phase, each frequency weighted by what its
/// coherence says about it, which is the maximum-likelihood estimate; where they differ, what a minimum-phase filter
/// of their difference does to the phase is taken out first, as a direct path is one, and what remains is the delay; no
/// frequency says much more than another there, so that what an amplifier bends at one end does not move it.
/// Sources: Knapp and Carter 1976, The generalized correlation method for estimation of time delay; Oppenheim and
/// Schafer, Discrete-Time Signal Processing, ch. 12.
/// @param maxMs  that one can be later or earlier than the other, 0.1 to 1000
/// @error OutOfRange where one is silent or both are too short for that delay
/// Cost: grows with the length; ten minutes take some seconds.
Result<Alignment> alignTo(std::span<const float> reference, std::span<const float> other, double rateHz,
                          double maxMs = 50.0);

/// The signal earlier by a delay that need not be whole, as long as before; zeros come in. By a Kaiser-windowed sinc of
/// 128 taps: errors below -100 dB to 0.43 of the rate. @param invert  inverts it
std::vector<float> movedEarlier(std::span<const float> x, double samples, bool invert);

} // namespace gristle::core
