#pragma once

#include "core/advice/finding.h"
#include "core/measure/stereo_measure.h"
#include "core/mix/figures/copies.h"
#include "core/mix/render/mixdown.h"

namespace gristle::core {

/// Do the sides make one picture? Codes: stereo.mono, stereo.inverted, stereo.mono_loss, stereo.low_end,
/// stereo.balance, stereo.silent_side, stereo.wide.
std::vector<Finding> stereoFindings(const StereoResult& stereo, const std::string& subject);

/// One performance heard several times: stereo.copies. @param names  of the layers, as the mix has them
std::vector<Finding> copyFindings(const std::vector<CopiedPerformance>& copies, const std::vector<std::string>& names);

/// Which layers are thin and which are thick, against the middle of them all, dB; none of one alone.
std::optional<double> usualBody(const std::vector<MixLayerReport>& layers);
enum class Body { Thin, Even, Thick };
Body bodyOf(double bodyDb, double usualDb) noexcept;

/// Thin and thick layers: mix.sides_differ where one side is thicker by 3 dB, mix.all_thick where three layers or more
/// have four fifths of their power in the octaves of 125 and 250 Hz. @param names  of the layers
std::vector<Finding> bodyFindings(const std::vector<MixLayerReport>& layers, const std::vector<std::string>& names);

/// What the sum needs: mix.clipped, mix.peak.
std::vector<Finding> sumFindings(std::optional<double> truePeakDbtp, std::int64_t clippedSamples,
                                 const std::string& subject);

} // namespace gristle::core
