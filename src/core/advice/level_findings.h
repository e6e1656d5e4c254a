#pragma once

#include "core/advice/finding.h"
#include "core/measure/measure_file.h"

namespace gristle::core {

/// Was this captured right? Codes: file.truncated, level.silent, level.clipped, level.flat_top, level.driven,
/// level.hot, level.low, level.right, level.headroom, level.nobody_plays, level.hum, level.noise, level.dc,
/// level.no_rest, level.channels_alike.
std::vector<Finding> levelFindings(const FileMeasurement& measured, const MeasureOptions& options);

/// Of a backing or a reference, whose level is not ours to judge: only file.truncated and level.silent.
std::vector<Finding> bandLevelFindings(const FileMeasurement& measured, const MeasureOptions& options);

/// A sentence that says why a recording without a floor has none.
std::string whyNoFloor(const NoiseResult& noise);

/// Places where samples were lost while a take was recorded; nothing where there are none. Code: take.gaps.
/// @param gaps  frames before which samples are missing
std::vector<Finding> gapFindings(const std::vector<std::int64_t>& gaps, double rateHz);

} // namespace gristle::core
