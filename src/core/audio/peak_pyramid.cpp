#include "core/audio/peak_pyramid.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

MinMax merged(MinMax a, MinMax b) { return {std::min(a.low, b.low), std::max(a.high, b.high)}; }

} // namespace

void PeakPyramid::push(std::span<const float> mono)
{
    frames_ += mono.size();
    if (openFrames_ > 0) mono = mono.subspan(topUp(mono));
    const std::size_t whole = mono.size() / kBlock;
    auto& entries = levels_[0];
    entries.resize(entries.size() + whole);
    extremesOfBlocks(mono, kBlock, std::span(entries).last(whole));
    topUp(mono.subspan(whole * kBlock));
}

/// Takes samples into the open block, which closes when it is full; how many.
std::size_t PeakPyramid::topUp(std::span<const float> mono)
{
    const std::size_t take = std::min(mono.size(), kBlock - openFrames_);
    if (take == 0) return 0;
    const MinMax part = extremesOf(mono.first(take));
    open_ = openFrames_ == 0 ? part : merged(open_, part);
    openFrames_ += take;
    if (openFrames_ == kBlock) {
        levels_[0].push_back(open_);
        openFrames_ = 0;
    }
    return take;
}

void PeakPyramid::finish()
{
    if (openFrames_ > 0) levels_[0].push_back(open_);
    openFrames_ = 0;
    levels_.resize(1);
    while (levels_.back().size() > kFactor) {
        const auto& below = levels_.back();
        std::vector<MinMax> level;
        level.reserve(below.size() / kFactor + 1);
        for (std::size_t i = 0; i < below.size(); i += kFactor) {
            MinMax entry = below[i];
            for (std::size_t k = i + 1; k < std::min(i + kFactor, below.size()); ++k) entry = merged(entry, below[k]);
            level.push_back(entry);
        }
        levels_.push_back(std::move(level));
    }
}

std::vector<MinMax> PeakPyramid::columns(double startFrame, double endFrame, std::size_t columns) const
{
    std::vector<MinMax> out(columns);
    if (columns == 0 || frames_ == 0 || !(endFrame > startFrame)) return out;
    const double width = (endFrame - startFrame) / double(columns);
    std::size_t level = 0;
    double block = double(kBlock);
    while (level + 1 < levels_.size() && block * double(kFactor) <= width) {
        ++level;
        block *= double(kFactor);
    }
    const auto& entries = levels_[level];
    for (std::size_t c = 0; c < columns; ++c) {
        const double from = startFrame + width * double(c);
        const double to = from + width;
        if (to <= 0.0 || from >= double(frames_)) continue;
        auto first = static_cast<std::size_t>(std::max(0.0, std::floor(from / block)));
        auto last = static_cast<std::size_t>(std::max(0.0, std::ceil(to / block)));
        first = std::min(first, entries.size() - 1);
        last = std::clamp(last, first + 1, entries.size());
        MinMax entry = entries[first];
        for (std::size_t i = first + 1; i < last; ++i) entry = merged(entry, entries[i]);
        out[c] = entry;
    }
    return out;
}

} // namespace gristle::core
