#pragma once

#include "core/timing/copy_check.h"
#include "core/timing/onsets.h"
#include "core/timing/pitch_match.h"
#include "core/units/double_limits.h"
#include "core/units/progress.h"
#include "core/units/result.h"

#include <optional>
#include <span>
#include <vector>

namespace gristle::core {

/// A note that both performances have; a chord is one.
struct NotePair {
    double timeS = 0.0;          ///< its onset in the first
    double offsetMs = 0.0;       ///< of the second, later above 0, beyond what the whole is moved by
    double offsetDoubtMs = 0.0;  ///< its standard error
    std::optional<double> cents; ///< of the second, higher above 0; none where too little of it sounds
    double centsDoubt = 0.0;     ///< its standard error, by how the partials differ
    double levelDb = 0.0;        ///< of the second over the first
};

/// Two performances of one part, note by note.
struct DoubleTake {
    std::vector<NotePair> notes;
    std::size_t unmatchedFirst = 0, unmatchedSecond = 0;
    std::vector<double> onlyFirstS, onlySecondS; ///< where these are, each in its own recording
    double movedMs = 0.0; ///< that the second is later as a whole where it begins elsewhere; 0 within 150 ms
    /// Mean and spread of the hands, each note counting by its doubt: see offsetSpread.
    double offsetMeanMs = 0.0, offsetSdMs = 0.0, offsetMedianMs = 0.0;
    double driftMs = 0.0, driftDoubtMs = 0.0; ///< of the offsets from the first note to the last, and standard error
    std::optional<double> tuningMeanCents, tuningSdCents;
    double levelDifferenceDb = 0.0; ///< median
    bool isCopy = false;            ///< the second is the first, moved, scaled, inverted, filtered, driven, chorused
    CopyThrough copyThrough = CopyThrough::Nothing;
    double copySlope = 0.0; ///< of a copy: by how much more it is later each second, as at another speed
    double likeness = 0.0;  ///< of what sounds behind paired onsets, 1 where alike
    /// Too few notes of one are in the other, or other ones; by likeness where too few sound long enough for a pitch.
    bool isUnrelated = false;
    int semitonesHigher = 0;              ///< of all that the second plays, where that is another pitch; unrelated then
    std::vector<PitchStretch> otherPitch; ///< where a second that is the same part elsewhere plays another pitch
    bool isOtherNotes = false;            ///< the same rhythm, other notes; unrelated then
    std::optional<double>
        tempoRatio; ///< of a second that is the same part slower or faster: its time over the first's; unrelated then
    /// Fewer pairs tell nothing: no spread, no median.
    static constexpr std::size_t kFewestPairs = 4;
    bool isTooShort() const { return !isUnrelated && !isCopy && notes.size() < kFewestPairs; }
    /// What they are heard as hangs on: the spread or the size of the median, and never less than the spread's doubt,
    /// since what is not known is not "one".
    double apartMs() const;
    double spreadDoubtMs() const; ///< standard error of the spread, by Gauss's law and the doubts of the notes
    double medianDoubtMs() const; ///< standard error of the median, so too
    double apartDoubtMs() const;  ///< of the two the larger one
    std::optional<double> tuningDoubtCents() const; ///< standard error of the mean
};

/// Onsets of both, paired in their order so that the sum of what each pair is apart and what is left over is least
/// (dynamic programming, Sakoe and Chiba 1978, with a cost for a note that one of them lacks); the offset of each pair
/// then by the correlation of how both attacks rise; their drift is the median of the slopes of all pairs of them
/// (Theil 1950, Sen 1968), so that a few late bars make none; tuning by the partials of both, each against its own, so
/// that the strings' stiffness does not matter. Each one channel at the same rate.
/// @error OutOfRange where one is silent or has no onset
/// Cost: grows with the length, 60 s take less than 1 s.
Result<DoubleTake> comparePerformances(std::span<const float> first, std::span<const float> second, double rateHz,
                                       const Progress& progress = {});

/// What a spread of offsets is heard as.
enum class DoubleHeard { One, Width, Loose, Flam };
/// By apartMs.
DoubleHeard heardAs(const DoubleTake& take, const DoubleLimits& limits = {});
/// What it may be heard as, within two standard errors.
struct DoubleBetween {
    DoubleHeard least, most;
    bool isTold() const { return int(most) - int(least) <= 1; } ///< the same or neighbours
};
DoubleBetween heardBetween(const DoubleTake& take, const DoubleLimits& limits = {});
/// The same where both come from one place: nothing but time tells them apart there, so what is loose in stereo is two
/// strokes in mono.
enum class MonoHeard { Combed, Thick, TwoStrokes };
MonoHeard heardInMono(const DoubleTake& take, const DoubleLimits& limits = {});

} // namespace gristle::core
