#pragma once

#include <span>
#include <vector>

namespace gristle::core {

/// Where a note begins in the first recording, and by how much it is later in the second, seconds.
struct NoteAt {
    double timeS = 0.0, laterS = 0.0;
};

/// How one recording would run behind the other if it were made from it: later by `fromS` at 0 and by `slope` more each
/// second, as one that was resampled, or recorded by another clock.
struct RunsBehind {
    double fromS = 0.0, slope = 0.0;
    double at(double timeS) const { return fromS + slope * timeS; }
};
/// The median of the slopes of all pairs, and of what is left (Theil 1950, Sen 1968). @param notes  at least 2
RunsBehind runsBehind(const std::vector<NoteAt>& notes);

/// What a copy went through, beside a filter.
enum class CopyThrough { Nothing, Drive, Chorus };

/// Drive takes 3 dB and more of the crest of one of them; a delay that wanders leaves a part of the phases only.
/// @param kept  from phasesKept
CopyThrough copyThrough(std::span<const float> first, std::span<const float> second, double kept);

/// Whether the phases of the second keep to those of the first from note to note: the coherence of both behind their
/// onsets, at one way to run behind for all, averaged over 400 Hz to 3 kHz, 0 to 1 (what chance gives is taken off). A
/// copy keeps to it whatever filter it went through, and for the most part through an amplifier or a chorus; hands that
/// are a third of a millisecond apart turn the phase at 1 kHz by a fifth of a circle each time.
/// Source: Carter 1987, Coherence and time delay estimation.
/// @param notes  200 at most are looked at  Cost: one window of 43 ms a note.
double phasesKept(std::span<const float> first, std::span<const float> second, double rateHz,
                  const std::vector<NoteAt>& notes, const RunsBehind& behind);

} // namespace gristle::core
