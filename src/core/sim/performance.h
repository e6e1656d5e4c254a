#pragma once

#include "core/sim/plucked_string.h"

#include <array>
#include <cstdint>
#include <utility>
#include <vector>

namespace gristle::core {

/// A pitch that moves while the note sounds: a bend is smooth, a slide goes over the frets.
struct Glide {
    enum class Kind { Bend, Slide };
    double fromBeat = 0.5; ///< after the note's onset
    double overBeats = 0.25;
    double semitones = 2.0; ///< that it moves by; up is above 0
    Kind kind = Kind::Bend;
};

/// A chord or single note as written: a chord is one note of the part.
struct WrittenNote {
    double beat = 0.0;                      ///< quarter notes from the start
    double beats = 1.0;                     ///< held
    std::vector<std::pair<int, int>> frets; ///< (string from the lowest, 0 to 5; fret)
    double velocity = 0.8;
    bool muted = false;
    std::vector<Glide> glides = {}; ///< in the order of their time
};

/// Open strings, lowest first, in Hz, equal temperament on A = 440 Hz.
using OpenStrings = std::array<double, 6>;
OpenStrings standardTuning();
OpenStrings dropDTuning();

/// A light set, lowest first: cores and tensions as load calculations give them, of our own.
std::array<StringMake, 6> lightStrings() noexcept;

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
    double pickupHz = 3600.0; ///< resonance of pickup and cable; 0: what the magnet gives, before any circuit
    double pickupQ = 2.2;
    double pickupAt = 0.09;
    double volts = 0.25; ///< peak that one string at full velocity gives, about
    std::array<StringMake, 6> strings = lightStrings();
    double scaleM = 0.648;    ///< from nut to bridge
    double secondPlane = 0.3; ///< of the strings' swing, as the pickup hears it
    double pickNoise = 1.0;   ///< 0: none
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
