#pragma once

#include "cli/command.h"
#include "core/advice/finding.h"
#include "core/measure/measure_file.h"
#include "core/measure/stereo_measure.h"

namespace gristle::cli {

/// A value that may not exist: null, also for what is not finite.
Json orNull(const std::optional<double>& value);
Json toJson(const std::optional<core::Hum>& hum);
Json toJson(const core::ChannelMeasurement& channel);
Json toJson(const core::LoudnessResult& loudness);
Json toJson(const core::StereoResult& stereo);
Json toJson(const std::vector<core::Finding>& findings);
/// Findings for people, a line each.
std::string findingLines(const std::vector<core::Finding>& findings);
/// "-18.0" or "-" where there is no value.
std::string shown(const std::optional<double>& value, int digits = 1);

} // namespace gristle::cli
