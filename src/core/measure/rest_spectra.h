#pragma once

#include "core/measure/noise.h"

namespace gristle::core {

/// The spectra of what is there while nobody plays and while somebody does, in bands of a twelfth of an octave.
struct RestSpectra {
    std::vector<double> hz;       ///< middles of the bands, 25 Hz to 20 kHz or 0.45 of the rate
    std::vector<double> restDbfs; ///< AES17: a full-scale sine reads 0 in its band; -inf where there is nothing
    std::vector<double> playDbfs; ///< the same while playing; empty where nobody plays
};

/// Reads the rests that `noise` found (at most 30 s) and the first 10 s of playing again. Power spectra by Welch: Hann
/// windows of a quarter of a second, half over each other; bins are shared among bands by their edges. Empty where
/// there is no rest. @error as `source`
Result<RestSpectra> restSpectra(const HopTrack& track, const NoiseResult& noise, const SampleSource& source);

} // namespace gristle::core
