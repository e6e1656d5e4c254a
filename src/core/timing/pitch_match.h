#pragma once

#include "core/timing/onsets.h"

#include <array>
#include <span>
#include <utility>
#include <vector>

namespace gristle::core {

/// Notes in a row of which the second plays most at another pitch.
struct PitchStretch {
    double fromS = 0.0, toS = 0.0; ///< onsets of the first and the last, in the first recording
    int semitonesHigher = 0;
    std::size_t notes = 0;
    bool holds(double timeS) const { return timeS >= fromS && timeS <= toS; }
};

/// Which notes two performances play, note against note, whatever their sound.
struct PitchMatch {
    static constexpr int kMostSemitones = 12;
    /// How alike the partials stand when the second is moved down by -12 to 12 semitones, 0 to 1, the mean over all
    /// notes that sound long enough; [12] is as they are.
    std::array<double, 2 * kMostSemitones + 1> alike{};
    std::array<double, 2 * kMostSemitones + 1> votes{}; ///< share of the notes that are most alike there
    std::size_t notes = 0;                              ///< that were long enough
    /// What each of these is most alike at, in their order.
    struct Vote {
        double timeS; ///< its onset in the first
        int semitones;
    };
    std::vector<Vote> each;

    double asTheyAre() const { return alike[kMostSemitones]; }
    bool areSameNotes() const; ///< most notes are most alike as they are
    /// The same of those outside of these stretches, where enough are.
    bool areSameNotesBesides(const std::vector<PitchStretch>& stretches) const;
    /// Semitones that the second is higher, where most notes are most alike when moved by them; else 0.
    int semitonesHigher() const;
};

/// The stretches whose notes vote so much oftener for another pitch than notes do by mistake that chance does not bring
/// it (the largest sums of log likelihood ratios in a row; Bentley 1984, Programming pearls: algorithm design
/// techniques), in the order of time.
std::vector<PitchStretch> stretchesAtAnotherPitch(const PitchMatch& match);

/// Spectra behind the onsets of pairs (200 ms, or until the next onset), over the logarithm of frequency from 120 Hz to
/// 5 kHz, their slow shape taken off so that peaks remain: what guitar, pickup and amplifier do to the colour goes with
/// the shape, and the same pattern at another pitch is the same pattern moved.
/// Sources: Brown 1991, Calculation of a constant Q spectral transform; Brown 1992, Musical fundamental frequency
/// tracking using a pattern recognition method.
/// @param pairs  indices into a and b  Cost: grows with the pairs, of which at most 600 are looked at.
PitchMatch matchPitches(std::span<const float> first, const std::vector<Onset>& a, std::span<const float> second,
                        const std::vector<Onset>& b, const std::vector<std::pair<std::size_t, std::size_t>>& pairs,
                        double rateHz);

} // namespace gristle::core
