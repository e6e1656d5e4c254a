#include "core/actions/place_microphones.h"

#include "core/advice/impulse_findings.h"
#include "core/impulse/loudspeaker_model.h"
#include "core/units/decibels.h"

namespace gristle::core {

Result<PlacedPlan> placeMicrophones(const CabPlan& plan, const Progress& progress)
{
    auto figures = figuresOf(plan, progress);
    if (!figures) return figures.error();
    auto findings = placementFindings(plan, figures->microphones);
    return PlacedPlan{std::move(*figures), std::move(findings)};
}

Result<Recording> impulseOfPlaced(const CabPlan& plan, const PlanImpulse& wish, const Progress& progress)
{
    auto out = impulseOf(plan, wish.channels, wish.rateHz, wish.lengthS, progress);
    if (!out || !wish.isMatched) return out;
    const auto gain = float(dbToAmplitude(matchedGainDb(*out)));
    for (std::size_t c = 0; c < out->audio.channels(); ++c)
        for (float& x : out->audio.channel(c)) x *= gain;
    return out;
}

} // namespace gristle::core
