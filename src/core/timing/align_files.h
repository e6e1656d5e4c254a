#pragma once

#include "core/timing/alignment.h"
#include "core/units/progress.h"

namespace gristle::core {

struct AlignFilesOptions {
    double maxMs = 50.0;
    int channelFromOne = 0;                      ///< of every file; 0: the only one, or any where all are alike
    std::vector<std::filesystem::path> keepLate; ///< of the others, those whose delay is meant: polarity only
    std::filesystem::path writeTo;               ///< a folder for moved copies; empty: none
};

struct AlignedFile {
    std::filesystem::path file;
    Alignment alignment; ///< in samples of the reference's rate
    bool isKeptLate = false;
    bool isMoved = false;          ///< in its copy: it is no stranger
    std::filesystem::path written; ///< empty: no copy
};

struct AlignedFiles {
    std::filesystem::path reference, referenceWritten;
    int rateHz = 0;
    std::vector<AlignedFile> others;
};

/// Several recordings of one performance, at any rates, against the first. The first ten minutes tell the delay. Copies
/// keep rate, channels and depth, and are named STEM.aligned.wav.
/// @error what reading gives; Usage where two copies would have one name, or a late one is none of the others
Result<AlignedFiles> alignFiles(const std::filesystem::path& reference,
                                const std::vector<std::filesystem::path>& others, const AlignFilesOptions& options,
                                const Progress& progress = {});

/// A copy of all channels, moved as movedEarlier(), in blocks: memory does not grow with the length.
/// @param samples  of the file's own rate
Outcome writeMoved(const std::filesystem::path& from, const std::filesystem::path& to, double samples, bool invert,
                   const Progress& progress = {});

/// What a pair loses when only the polarity is mended, from what it loses as it is, dB.
double lossTurnedOverDb(double lossDb) noexcept;

} // namespace gristle::core
