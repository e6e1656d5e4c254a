#pragma once

#include "core/audio/audio_buffer.h"

#include <span>

namespace gristle::core {

/// How a sound is made up.
struct Colour {
    double lufs = -70.0;          ///< integrated loudness
    double brightnessDb = -100.0; ///< power above 2 kHz over the whole, of the first channel
    double bodyDb = -100.0;       ///< power from 100 to 400 Hz over the whole
    double crestDb = 0.0;         ///< highest sample over the RMS, of the louder channel
};

/// Spectra by Hann windows of 4096 frames, half of them overlapping.
Colour colourOf(const AudioBuffer& audio, double rateHz);

/// What no filter makes of what came in: the part of the output's power that is not coherent with the input, in dB of
/// the whole output. Harmonics and intermodulation count, and echoes that come later than some 20 ms. Its floor is
/// about one over the number of windows, -20 dB after 2 s. Source: Bendat and Piersol, Random Data, coherent output
/// power. @param in, out  of one length, in time with each other
double newSoundDb(std::span<const float> in, std::span<const float> out);

} // namespace gristle::core
