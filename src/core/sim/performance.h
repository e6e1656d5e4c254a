#pragma once

#include <array>
#include <cstdint>
#include <utility>
#include <vector>

namespace gristle::core {

/// A chord or single note as written: a chord is one note of the part.
struct WrittenNote {
    double beat = 0.0;                      ///< quarter notes from the start
    double beats = 1.0;                     ///< held
    std::vector<std::pair<int, int>> frets; ///< (string from the lowest, 0 to 5; fret)
    double velocity = 0.8;
    bool muted = false;
};

/// Open strings, lowest first, in Hz, equal temperament on A = 440 Hz.
using OpenStrings = std::array<double, 6>;
OpenStrings standardTuning();
OpenStrings dropDTuning();

/// How somebody plays it this time.
struct PlayingStyle {
    std::uint32_t seed = 1;
    double leadInS = 1.5; ///< rest before the first beat
    double restAfterS = 1.2;
    double timingSdMs = 6.0;
    double timingMeanMs = 0.0;
    double lateFromBeat = 0.0, lateToBeat = 0.0, lateMs = 0.0; ///< a stretch that drags
    double strumMs = 9.0; ///< from the lowest to the highest string of a chord of six
    double tuningCents = 0.0;
    double tuningSdCents = 1.5;
    double dynamicsSdDb = 1.2;
    double pickupHz = 3600.0; ///< resonance of pickup and cable
    double pickupQ = 2.2;
    double pickupAt = 0.09;
    double volts = 0.25; ///< peak that one string at full velocity gives, about
};

/// What was really played: the onset of every written note in seconds. The truth for tests.
struct Performance {
    std::vector<float> volts;
    std::vector<double> onsetS;
};

/// Plays a part. The same style and seed give the same samples.
Performance perform(const std::vector<WrittenNote>& part, double tempoBpm, const OpenStrings& strings,
                    const PlayingStyle& style, double rateHz);

/// The simulated interface: gain, hum, noise, and a converter that clips at full scale.
struct SimulatedInterface {
    double gainDb = 0.0;
    double fullScaleDbu = 12.0;
    double noiseDbfs = -96.0; ///< AES17, white
    double humDbfs = -200.0;  ///< AES17, all harmonics together
    double mainsHz = 50.02;
    std::uint32_t seed = 1;
};

/// Samples re full scale 1.0, clipped, from volts.
std::vector<float> digitise(const std::vector<float>& volts, const SimulatedInterface& interface, double rateHz);

} // namespace gristle::core
