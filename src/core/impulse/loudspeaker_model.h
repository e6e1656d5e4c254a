#pragma once

#include "core/audio/audio_buffer.h"

namespace gristle::core {

/// A small parametric stand-in for a loudspeaker and a close microphone: what such pairs have in common, not a
/// particular one. An estimate. The model with cone, cabinet and room comes with the Cab bench.
struct LoudspeakerShape {
    double boxHz = 85.0; ///< resonance of driver and closed box; second-order high pass
    double boxQ = 1.1;
    double bodyDb = -3.0;    ///< dip around 450 Hz
    double presenceDb = 7.0; ///< first break-up of the cone
    double presenceHz = 2700.0;
    double topHz = 4900.0; ///< where the cone stops following; fourth-order low pass
};

/// Its impulse response: minimum phase, 2,048 frames at 48 kHz (in proportion at other rates) with a fade over the last
/// quarter; 0 dB at 1 kHz.
Recording loudspeakerImpulse(const LoudspeakerShape& shape, int rateHz);

/// The gain that makes pink noise through the impulse as loud (BS.1770) as without it, in dB.
double matchedGainDb(const Recording& impulse);

} // namespace gristle::core
