#include "core/mix/figures/rig_ledger.h"

#include "core/mix/figures/stage_run.h"

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

/// Level at the end of each lane of a split while playing, of the louder channel.
Result<std::vector<double>> lanesDbu(const LayerRecipe& recipe, std::size_t split, const Progress& progress)
{
    const Progress quiet{progress.stop, nullptr};
    const auto input = stageInput(recipe, split, quiet);
    if (!input) return input.error();
    std::vector<double> out;
    for (const RigChain& lane : recipe.rig.chain[split].lanes) {
        const auto played = playChain(lane, input->options, input->before, input->di, quiet);
        if (!played) return played.error();
        double most = 0.0;
        for (std::size_t c = 0; c < played->channels(); ++c) {
            const auto x = played->channel(c).subspan(input->preroll);
            double squares = 0.0;
            for (const float v : x) squares += double(v) * double(v);
            most = std::max(most, squares / double(std::max<std::size_t>(1, x.size())));
        }
        out.push_back(dbu(std::sqrt(most)));
    }
    return out;
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
            Rung in{"input", false, dbu(s.inRmsV()), dbu(double(s.inPeak) / kSinePeak), std::nullopt, {}};
            if (!rest.empty()) in.restDbu = dbu(rest[0].inRmsV());
            out.push_back(std::move(in));
        }
        Rung rung{s.node, s.bypass, dbu(s.outRmsV()), dbu(double(s.outPeak) / kSinePeak), std::nullopt, {}};
        if (i < rest.size()) rung.restDbu = dbu(rest[i].outRmsV());
        const RigNode& node = recipe.rig.chain[i];
        if (node.isSplit() && !node.bypass) {
            auto lanes = lanesDbu(recipe, i, progress);
            if (!lanes) return lanes.error();
            rung.lanesDbu = std::move(*lanes);
        }
        out.push_back(std::move(rung));
    }
    return out;
}

} // namespace gristle::core
