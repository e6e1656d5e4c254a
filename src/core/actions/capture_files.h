#pragma once

#include "core/advice/finding.h"
#include "core/impulse/capture_set.h"
#include "core/units/progress.h"

#include <filesystem>

namespace gristle::core {

/// Impulses of a sweep's recordings, made elsewhere.
struct SweepFiles {
    std::filesystem::path sweep;
    std::vector<std::filesystem::path> recordings; ///< at the sweep's rate
    int channel = 0; ///< of each recording, from 1; 0: where they are unlike, each channel is a microphone by itself
    CaptureOptions options;
};

/// What one microphone gave, or why not.
struct CapturedFile {
    std::string name; ///< the file's, and the channel's where it has several
    double peakDbfs = -200.0;
    std::vector<Finding> findings;
};
struct CapturedFiles {
    std::vector<CapturedFile> each; ///< as many as set.each
    CapturedSet set;
};
/// @error what reading gives; OutOfRange where a file is longer than ten minutes, of another rate, or has no such
/// channel; as captureSet(). A microphone's own error stands in its place of the set.
Result<CapturedFiles> captureFiles(const SweepFiles& files, const Progress& progress = {});

} // namespace gristle::core
