#pragma once

#include "core/advice/finding.h"
#include "core/impulse/placed_plan.h"

namespace gristle::core {

/// What the microphones of a plan hear, and what is to be said of it.
struct PlacedPlan {
    PlanFigures figures;
    std::vector<Finding> findings;
};
/// @error as figuresOf()
Result<PlacedPlan> placeMicrophones(const CabPlan& plan, const Progress& progress = {});

/// What becomes of a plan as a file.
struct PlanImpulse {
    PlanChannels channels = PlanChannels::Sum;
    int rateHz = 48000;
    double lengthS = 0.3;
    bool isMatched = false; ///< as loud as nothing in its place (matchedGainDb)
};
/// @error as impulseOf()
Result<Recording> impulseOfPlaced(const CabPlan& plan, const PlanImpulse& wish, const Progress& progress = {});

} // namespace gristle::core
