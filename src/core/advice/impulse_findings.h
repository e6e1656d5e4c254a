#pragma once

#include "core/advice/finding.h"
#include "core/impulse/impulse_info.h"
#include "core/impulse/placed_plan.h"
#include "core/impulse/sweep.h"

#include <span>

namespace gristle::core {

/// What is known of an impulse; a card of the shelf knows less than the file.
struct ImpulseTold {
    double energy90Ms = 0.0;
    std::optional<double> arrivalS;
    std::optional<double> performedDb; ///< how little its highest sample stands out, where it looks like playing
};
std::vector<Finding> impulseFindings(const ImpulseTold& told, const std::string& name);

/// What a sweep gave through one microphone, or why it gave nothing; a sweep in which the system lost samples.
std::vector<Finding> captureFindings(const Result<Captured>& captured, const std::string& name);
Finding captureLostFinding();

/// Of a plan's microphones: too loud, phantom power into a ribbon, spill of a second amplifier.
/// @param figures  of the plan, in its order
std::vector<Finding> placementFindings(const CabPlan& plan, std::span<const PlacedFigures> figures);

/// Where the low end was cut off with the end. @param keptFromHz  as ImpulseEdit's answer has it; 0: nothing was
std::vector<Finding> shortenedFindings(double keptFromHz);

/// Parts of a blend that take from each other where each by itself is strong, 70 Hz to 6 kHz.
/// @param responses  of the parts by themselves, without their gains @param sum  what they give together, with
/// `matchedDb` of gain on all of it; at the same frequencies
std::vector<Finding> cancelFindings(std::span<const BlendPart> parts,
                                    std::span<const std::vector<ResponsePoint>> responses,
                                    const std::vector<ResponsePoint>& sum, double matchedDb);

} // namespace gristle::core
