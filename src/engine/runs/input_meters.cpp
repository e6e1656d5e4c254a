#include "engine/runs/input_meters.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::engine {

using core::amplitudeToDb;

namespace {

constexpr double kNothingDbfs = -70.0; // a peak below that is an input's own noise
constexpr double kNeedleS = 0.065;     // 99 % in 300 ms

} // namespace

bool InputMeters::look(const std::vector<std::size_t>& inputs, double rateHz)
{
    const InputLevel level = recorder_.level(inputs.front());
    if (level.frames == 0) return false;
    lookS_ = double(level.frames) / rateHz;
    needle_ += (level.rectified - needle_) * (1.0 - std::exp(-lookS_ / kNeedleS));
    reading_.peakDbfs = std::max(-200.0, amplitudeToDb(double(level.peak)));
    // A sine's rectified mean is 2 / pi of its peak, and its peak is its AES17 level.
    reading_.averageDbfs = std::max(-200.0, amplitudeToDb(needle_ * std::numbers::pi / 2.0));
    reading_.clipped = level.clipped - clipsBefore_;
    silentS_ = reading_.peakDbfs > kNothingDbfs ? 0.0 : silentS_ + lookS_;
    for (const std::size_t input : inputs) {
        if (input == inputs.front()) continue;
        const InputLevel other = recorder_.level(input);
        HeldLevel& held = others_[input];
        held.peakDbfs = std::max(held.peakDbfs, amplitudeToDb(double(other.peak)));
        held.clipped = other.clipped - clippedBefore_.try_emplace(input, other.clipped).first->second;
    }
    return true;
}

void InputMeters::clear(std::size_t chosen)
{
    clipsBefore_ = recorder_.level(chosen).clipped;
    reading_.clipped = 0;
    others_.clear();
    clippedBefore_.clear();
}

} // namespace gristle::engine
