#pragma once

#include "core/timing/alignment.h"
#include "core/units/progress.h"

namespace gristle::core {

/// A recording to be aligned.
struct AlignInput {
    std::filesystem::path file;
    int channelFromOne = 0; ///< 0: the only one, or any where all are alike
    bool keepLate = false;  ///< its delay is meant: polarity only
    bool operator==(const AlignInput&) const = default;
};

struct AlignedFile {
    std::filesystem::path file;
    Alignment alignment; ///< in samples of the reference's rate
    bool isKeptLate = false;
    std::filesystem::path written;                                          ///< empty: no copy
    bool isOneTake() const noexcept { return alignment.confidence >= 0.5; } ///< it is no stranger
};

struct AlignedFiles {
    std::filesystem::path reference, referenceWritten;
    int rateHz = 0;
    std::vector<AlignedFile> others;
};

/// Several recordings of one performance, at any rates, against the first. The first ten minutes tell the delay.
/// @error what reading gives; OutOfRange where one is silent or too short
Result<AlignedFiles> alignFiles(const AlignInput& reference, const std::vector<AlignInput>& others, double maxMs = 50.0,
                                const Progress& progress = {});

/// Writes a moved copy of each, the reference too, as STEM.aligned.wav into a folder, which is made; rate, channels and
/// depth stay. Strangers are copied as they are. @error Usage where two would have one name; WriteFailed
Outcome writeAligned(AlignedFiles& aligned, const std::filesystem::path& folder, const Progress& progress = {});

/// A copy of all channels, moved as movedEarlier(), in blocks: memory does not grow with the length.
/// @param samples  of the file's own rate
Outcome writeMoved(const std::filesystem::path& from, const std::filesystem::path& to, double samples, bool invert,
                   const Progress& progress = {});

/// What a pair loses when only the polarity is mended, from what it loses as it is, dB.
double lossTurnedOverDb(double lossDb) noexcept;

} // namespace gristle::core
