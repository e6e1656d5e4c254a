#pragma once

#include "core/audio/audio_reader.h"
#include "core/units/decibels.h"

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace gristle::core {

/// A run of at least 3 consecutive samples at full scale.
struct ClipRun {
    double startS = 0.0;
    std::int64_t samples = 0;
    bool operator==(const ClipRun&) const = default;
};

struct LevelResult {
    std::optional<double> peakDbfs; ///< largest |sample| re 1.0; none for digital silence
    std::optional<double> rmsDbfs;  ///< AES17, samples as they are, DC included
    std::optional<double> crestDb;  ///< peak over plain RMS: a sine has 3.01
    double dcOffset = 0.0;          ///< mean sample, signed part of full scale
    std::int64_t clippedSamples = 0;
    std::int64_t clipRunCount = 0;
    std::vector<ClipRun> clipRuns; ///< at most kMostRuns, the first ones; the counts are of all
    std::int64_t flatTopRuns = 0;  ///< runs of 4 and more equal samples at the file's own peak, below full scale
    static constexpr std::int64_t kFewestFlatTops = 3; ///< fewer happen by chance
};

/// Peak over plain RMS of what is in memory, dB: a sine has 3.01. 0 for silence.
double crestDb(std::span<const float> x) noexcept;

/// Peak, RMS, DC and clipping of one channel, streamed. Sums in double over partial sums of kBlock samples.
/// Memory: 4 bytes a block.
class LevelMeter {
public:
    static constexpr std::size_t kMostRuns = 1000;
    static constexpr std::size_t kBlock = 1024;
    /// @param positiveClip, negativeClip  from AudioInfo: what counts as full scale
    LevelMeter(double rateHz, float positiveClip, float negativeClip);
    void push(std::span<const float> mono);
    LevelResult result();
    std::span<const float> blockPeaks() const { return blockPeaks_; } ///< largest |sample| of each kBlock frames

private:
    void closeRun();
    void noteExtremes(std::span<const float> mono, float low, float high);

    double rateHz_;
    float positiveClip_, negativeClip_;
    double sum_ = 0.0, squares_ = 0.0;
    std::vector<float> blockPeaks_;
    std::int64_t frames_ = 0;
    std::int64_t runLength_ = 0;
    float top_ = 0.0f; ///< largest |sample| so far, and how often it stands in runs
    float flatSign_ = 0.0f;
    std::int64_t flatLength_ = 0;
    std::int64_t flatRuns_ = 0;
    LevelResult result_;
};

} // namespace gristle::core
