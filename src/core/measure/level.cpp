#include "core/measure/level.h"

#include "core/audio/block_stats.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr std::int64_t kShortestClip = 3; // contract: runs of at least 3 samples
constexpr std::int64_t kShortestFlat =
    4; // one longer: three equal codes at a crest happen by chance at low frequencies

} // namespace

LevelMeter::LevelMeter(double rateHz, float positiveClip, float negativeClip)
    : rateHz_(rateHz), positiveClip_(positiveClip), negativeClip_(negativeClip)
{}

void LevelMeter::push(std::span<const float> mono)
{
    while (!mono.empty()) {
        const auto begun = std::size_t(frames_) % kBlock;
        const auto part = mono.first(std::min(mono.size(), kBlock - begun));
        const Sums sums = sumsOf(part);
        const MinMax e = extremesOf(part);
        sum_ += sums.sum;
        squares_ += sums.squares;
        if (begun == 0) blockPeaks_.push_back(0.0f);
        blockPeaks_.back() = std::max({blockPeaks_.back(), e.high, -e.low});
        noteExtremes(part, e.low, e.high);
        frames_ += static_cast<std::int64_t>(part.size());
        mono = mono.subspan(part.size());
    }
}

/// Follows runs at full scale and runs of equal samples at the largest value. Parts that stay clear of both are
/// skipped.
void LevelMeter::noteExtremes(std::span<const float> part, float low, float high)
{
    const bool clips = high >= positiveClip_ || low <= negativeClip_ || runLength_ > 0;
    const bool tops = std::max(high, -low) >= top_ || flatLength_ > 0;
    if (!clips && !tops) return;
    for (std::size_t i = 0; i < part.size(); ++i) {
        const float x = part[i];
        if (x >= positiveClip_ || x <= negativeClip_) {
            if (runLength_++ == 0) result_.clipRuns.push_back({double(frames_ + std::int64_t(i)) / rateHz_, 0});
        } else if (runLength_ > 0) {
            closeRun();
        }
        const float size = std::abs(x);
        if (size > top_) {
            top_ = size;
            flatRuns_ = 0;
            flatLength_ = 1;
            flatSign_ = x;
        } else if (size == top_ && x == flatSign_ && flatLength_ > 0) {
            if (++flatLength_ == kShortestFlat) ++flatRuns_;
        } else if (size == top_ && size > 0.0f) {
            flatLength_ = 1;
            flatSign_ = x;
        } else {
            flatLength_ = 0;
        }
    }
}

void LevelMeter::closeRun()
{
    if (runLength_ >= kShortestClip) {
        result_.clippedSamples += runLength_;
        ++result_.clipRunCount;
        result_.clipRuns.back().samples = runLength_;
    }
    if (runLength_ < kShortestClip || result_.clipRuns.size() > kMostRuns) result_.clipRuns.pop_back();
    runLength_ = 0;
}

LevelResult LevelMeter::result()
{
    if (runLength_ > 0) closeRun();
    LevelResult out = result_;
    if (frames_ == 0) return out;
    const double n = double(frames_);
    out.dcOffset = sum_ / n;
    out.rmsDbfs = aes17Dbfs(squares_ / n);
    const float peak = *std::ranges::max_element(blockPeaks_);
    if (peak > 0.0f && squares_ > 0.0) {
        out.peakDbfs = amplitudeToDb(double(peak));
        out.crestDb = *out.peakDbfs - powerToDb(squares_ / n);
    }
    const bool fullScale = top_ >= positiveClip_ || -top_ <= negativeClip_;
    out.flatTopRuns = fullScale ? 0 : flatRuns_;
    return out;
}

double crestDb(std::span<const float> x) noexcept
{
    double most = 0.0, squares = 0.0;
    for (const float v : x) most = std::max(most, std::abs(double(v))), squares += double(v) * double(v);
    return squares > 0.0 ? amplitudeToDb(most) - powerToDb(squares / double(x.size())) : 0.0;
}

} // namespace gristle::core
