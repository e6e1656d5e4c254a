#pragma once

#include "core/audio/audio_writer.h"
#include "core/mix/render/layer_source.h"
#include "core/units/progress.h"

namespace gristle::core {

/// What cleaning took from a take, of the noise and of the guitar.
struct CleanJudgement {
    std::optional<double> restBeforeDbfs, restAfterDbfs; ///< AES17, while nobody plays
    double lossDb = 0.0;  ///< of the guitar while it plays, 80 Hz to 5 kHz: over 0 where it lost
    double worstHz = 0.0; ///< third octave that lost most, of those over ten times the noise
    double worstLossDb = 0.0;
    /// The guitar's lost power is more than the noise's: the cure costs more than the noise.
    bool costsMore = false;
};

/// Compares a recording with its cleaned version of the same length (rigs are latency-compensated), in spectra over
/// what plays and what rests: the guitar's power is that while it plays less that of the rests. Nothing where nobody
/// rests.
/// @error as AudioReader; OutOfRange where the lengths or rates differ; Cancelled
Result<std::optional<CleanJudgement>> judgeCleaning(const std::filesystem::path& before, std::size_t channel,
                                                    const std::filesystem::path& after, const Progress& progress = {});

/// Writes what was taken away: before less after. @error as AudioReader and AudioWriter
Outcome writeRemoved(const std::filesystem::path& before, std::size_t channel, const std::filesystem::path& after,
                     const std::filesystem::path& out, SampleFormat format);

} // namespace gristle::core
