#include "core/mix/rig_ledger.h"

#include "core/measure/loudness.h"
#include "core/signal/fft.h"
#include "core/signal/window.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

double dbu(double voltsRms) { return voltsRms > 0.0 ? std::max(-200.0, voltsRmsToDbu(voltsRms)) : -200.0; }

/// Stage levels over a stretch, the input first.
Result<std::vector<StageLevels>> levelsOver(LayerRecipe recipe, double fromS, double toS, const Progress& progress)
{
    recipe.startS = fromS;
    recipe.endS = toS;
    RenderReport report;
    const auto rendered = renderToMemory(recipe, report, progress);
    if (!rendered) return rendered.error();
    return report.stages;
}

struct Colour {
    double lufs, brightness, body;
};

/// Loudness and how the power is spread.
Colour colourOf(const Recording& recording)
{
    const double rate = recording.sampleRateHz;
    Colour out{integratedLoudness(recording.audio, rate).value_or(-70.0), -100.0, -100.0};
    const auto x = recording.audio.channel(0);
    RealFft fft(4096);
    const auto window = hannWindow(fft.size());
    double whole = 1e-20, bright = 1e-20, body = 1e-20;
    for (std::size_t at = 0; at + fft.size() <= x.size(); at += fft.size() / 2) {
        for (std::size_t i = 0; i < fft.size(); ++i) fft.time()[i] = static_cast<float>(window[i] * double(x[at + i]));
        fft.forward();
        for (std::size_t k = 1; k < fft.size() / 2; ++k) {
            const double hz = rate * double(k) / double(fft.size());
            const double power = double(std::norm(fft.spectrum()[k]));
            whole += power;
            if (hz > 2000.0) bright += power;
            if (hz >= 100.0 && hz <= 400.0) body += power;
        }
    }
    out.brightness = powerToDb(bright / whole);
    out.body = powerToDb(body / whole);
    return out;
}

Result<Colour> colourWith(const LayerRecipe& recipe, const Progress& progress)
{
    RenderReport report;
    const auto rendered = renderToMemory(recipe, report, progress);
    if (!rendered) return rendered.error();
    return colourOf(*rendered);
}

} // namespace

Result<std::vector<Rung>> rigLedger(const LayerRecipe& recipe, double restFromS, double restToS,
                                    const Progress& progress)
{
    const auto playing = levelsOver(recipe, recipe.startS, recipe.endS, progress);
    if (!playing) return playing.error();
    std::vector<StageLevels> rest;
    if (restToS > restFromS) {
        auto levels = levelsOver(recipe, restFromS, restToS, progress);
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

Result<std::vector<TravelPoint>> controlTravel(const LayerRecipe& recipe, std::size_t stage, const std::string& key,
                                               std::size_t points, const Progress& progress)
{
    if (stage >= recipe.rig.chain.size()) return Error{ErrorCode::Usage, "travel: there is no such stage", ""};
    const NodeType* type = findNodeType(recipe.rig.chain[stage].type);
    const ParameterSpec* spec = type ? type->find(key) : nullptr;
    if (!spec || spec->kind != ParameterKind::Number)
        return Error{ErrorCode::Usage, "travel: there is no such control", ""};
    const Progress quiet{progress.stop, nullptr};
    const auto present = colourWith(recipe, quiet);
    if (!present) return present.error();
    std::vector<TravelPoint> out;
    for (std::size_t i = 0; i < points; ++i) {
        const double part = double(i) / double(points - 1);
        LayerRecipe at = recipe;
        const double value = spec->scale == Scale::Logarithmic ? spec->min * std::pow(spec->max / spec->min, part)
                                                               : spec->min + part * (spec->max - spec->min);
        at.rig.chain[stage].values[key] = std::clamp(value, spec->min, spec->max);
        const auto colour = colourWith(at, quiet);
        if (!colour) return colour.error();
        out.push_back({value, colour->lufs - present->lufs, colour->brightness - present->brightness,
                       colour->body - present->body});
        progress.at(double(i + 1) / double(points));
    }
    return out;
}

} // namespace gristle::core
