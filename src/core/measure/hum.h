#pragma once

#include <optional>
#include <span>
#include <vector>

namespace gristle::core {

struct HumHarmonic {
    double hz = 0.0;
    double levelDbfs = 0.0; ///< AES17: a sine of amplitude 1 is 0
};

struct Hum {
    double mainsHz = 0.0;   ///< measured
    double levelDbfs = 0.0; ///< power sum of the harmonics that stand out of the noise
    std::vector<HumHarmonic> harmonics;
};

enum class Mains { Auto, Hz50, Hz60 };

/// A stretch of signal at a known time: gaps between stretches count, so the phase of a steady hum runs through.
struct TimedSamples {
    double startS = 0.0;
    std::vector<float> samples;
};

/// The mains series in stretches where nobody plays. The frequency (within 0.8 Hz of the nominal one) maximises the
/// power that a least-squares fit of DC and harmonics explains, over all stretches within 10 s together; a harmonic
/// stands out where its power is 13 dB over the median of its surroundings (a false one in 10^6 for Gaussian noise).
/// Hum is claimed where the fundamental or two of the first five stand out; the first 12 are fitted together, those up
/// to 3 kHz that stand out besides are added one by one. Source of the estimator: least squares is maximum likelihood
/// in white noise (Kay, Fundamentals of Statistical Signal Processing I, ch. 7).
std::optional<Hum> findHum(const std::vector<TimedSamples>& rests, double rateHz, Mains mains);

/// Part of the power that stands in narrow lines outside the mains series, the larger of that between 60 and 2,000 Hz
/// and that up to 10 kHz: near 0 for noise and hum, near 1 where a string still sounds.
double tonalPart(std::span<const float> samples, double rateHz, const std::optional<Hum>& hum);

} // namespace gristle::core
