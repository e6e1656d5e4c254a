#pragma once

#include "core/audio/block_stats.h"

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace gristle::core {

/// Lowest and highest sample of a mono signal over blocks of 64 frames, and over 4, 16, 64 ... of these, so that any
/// stretch at any zoom is drawn from at most about four entries a column without reading samples again.
/// Memory: 2/3 of a byte a frame times 4 / 3, about 29 MB for an hour at 48 kHz. Building costs one pass.
class PeakPyramid {
public:
    static constexpr std::size_t kBlock = 64;
    static constexpr std::size_t kFactor = 4;

    /// Appends samples. Any block lengths give the same pyramid.
    void push(std::span<const float> mono);
    /// Builds the upper levels; call once after the last push.
    void finish();

    std::size_t frames() const noexcept { return frames_; }
    /// Extremes of each of `columns` equal stretches of [start, end), each at least as wide as asked: block borders are
    /// rounded outwards. Columns outside the signal are 0. O(columns), whatever the length.
    std::vector<MinMax> columns(double startFrame, double endFrame, std::size_t columns) const;

private:
    std::size_t topUp(std::span<const float> mono);

    std::vector<std::vector<MinMax>> levels_{1};
    MinMax open_;
    std::size_t openFrames_ = 0;
    std::size_t frames_ = 0;
};

} // namespace gristle::core
