#pragma once

#include <string>
#include <vector>

namespace gristle::test {

/// A guitar of a make that nobody tuned on: a sampled one with its attacks uncut (a General MIDI program of a sound
/// font), or strings as digital waveguides that share no code with core/sim.
struct NaturalVoice {
    std::string name;
    std::string font; ///< path; empty: waveguide
    int program = 0;  ///< General MIDI, from 0
    bool isMuted = false;
};

/// Acoustic, jazz, clean and muted guitars of every sound font that is here, and the waveguide.
std::vector<NaturalVoice> naturalVoices();

/// What is played. A stroke is what one hears as one attack: the strings of a strum within 10 to 25 ms are one.
enum class NaturalPart { Riff, Chug, Strum, Sixteenths, Arpeggio, Lead };
inline constexpr NaturalPart kNaturalParts[] = {NaturalPart::Riff,       NaturalPart::Chug,     NaturalPart::Strum,
                                                NaturalPart::Sixteenths, NaturalPart::Arpeggio, NaturalPart::Lead};
const char* nameOf(NaturalPart part);

struct NaturalPlaying {
    double seconds = 16.0;
    double spreadMs = 0.0; ///< standard deviation of what each stroke is off by
    int semitones = 0;     ///< all higher by that
    bool isOther = false;  ///< other notes in the same rhythm: each stroke by a step of its own, up or down
    bool isEven = false;   ///< every stroke at velocity 100, as a machine plays
    int lost = -1;         ///< the stroke that is not played, counted from 0
    int added = -1;        ///< the stroke behind which it is struck once more, half way to the next
    unsigned seed = 1;     ///< velocities of 40 to 120, strums, and what is off; the notes follow the part alone
};

struct NaturalTake {
    std::vector<float> x;         ///< peak at 0.3
    std::vector<double> strokesS; ///< where the first string of each is heard
};

/// Plays a part, with decays into rests. Empty where the font or fluidsynth is not here.
NaturalTake playNatural(const NaturalVoice& voice, NaturalPart part, const NaturalPlaying& playing, int rateHz);

/// As after an amplifier: gain into tanh, then a second-order low pass at 5 kHz. @param gain  20 is much
std::vector<float> driven(std::vector<float> x, double gain, double rateHz);

} // namespace gristle::test
