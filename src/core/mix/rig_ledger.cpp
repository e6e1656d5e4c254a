#include "core/mix/rig_ledger.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

double dbu(double voltsRms) { return voltsRms > 0.0 ? std::max(-200.0, voltsRmsToDbu(voltsRms)) : -200.0; }

/// Stage levels over a stretch, the input first.
Result<std::vector<StageLevels>> levelsOver(LayerRecipe recipe, double fromS, double toS, RenderReport& report,
                                            const Progress& progress)
{
    recipe.startS = fromS;
    recipe.endS = toS;
    const auto rendered = renderToMemory(recipe, report, progress);
    if (!rendered) return rendered.error();
    return report.stages;
}

} // namespace

Result<std::vector<Rung>> rigLedger(const LayerRecipe& recipe, double restFromS, double restToS, RenderReport& report,
                                    const Progress& progress)
{
    const auto playing = levelsOver(recipe, recipe.startS, recipe.endS, report, progress);
    if (!playing) return playing.error();
    std::vector<StageLevels> rest;
    if (restToS > restFromS) {
        RenderReport ofRest;
        auto levels = levelsOver(recipe, restFromS, restToS, ofRest, progress);
        if (!levels) return levels.error();
        rest = std::move(*levels);
    }
    constexpr double kSinePeak = 1.4142135623730951;
    std::vector<Rung> out;
    for (std::size_t i = 0; i < playing->size(); ++i) {
        const StageLevels& s = (*playing)[i];
        if (i == 0) {
            Rung in{"input", false, dbu(s.inRmsV()), dbu(double(s.inPeak) / kSinePeak), std::nullopt};
            if (!rest.empty()) in.restDbu = dbu(rest[0].inRmsV());
            out.push_back(std::move(in));
        }
        Rung rung{s.node, s.bypass, dbu(s.outRmsV()), dbu(double(s.outPeak) / kSinePeak), std::nullopt};
        if (i < rest.size()) rung.restDbu = dbu(rest[i].outRmsV());
        out.push_back(std::move(rung));
    }
    return out;
}

} // namespace gristle::core
