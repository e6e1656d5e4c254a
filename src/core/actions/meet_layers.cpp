#include "core/actions/meet_layers.h"

#include "core/advice/sum_findings.h"
#include "core/mix/figures/copies.h"
#include "core/mix/render/render_cache.h"
#include "core/units/decibels.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kMostLayers = 6; // 15 pairs
constexpr double kHeardS = 30.0, kMostMs = 20.0;

std::vector<float> monoOf(const Recording& sound, double gainDb, double seconds)
{
    const auto frames = std::min(sound.audio.frames(), std::size_t(seconds * sound.sampleRateHz));
    std::vector<float> out(frames, 0.0f);
    const auto gain = float(dbToAmplitude(gainDb) / double(sound.audio.channels()));
    for (std::size_t c = 0; c < sound.audio.channels(); ++c)
        for (std::size_t i = 0; i < frames; ++i) out[i] += gain * sound.audio.channel(c)[i];
    return out;
}

} // namespace

Result<std::vector<Finding>> meetLayers(const std::vector<MixLayer>& layers, const MixOptions& options,
                                        const Progress& progress, RenderCache& cache)
{
    std::vector<Finding> out;
    const std::size_t count = std::min(layers.size(), kMostLayers);
    std::vector<std::vector<float>> heard;
    int rate = 0;
    for (std::size_t i = 0; i < count; ++i) {
        LayerRecipe recipe = layers[i].recipe;
        if (options.rateHz > 0) recipe.rateHz = options.rateHz;
        const auto rendered = cache.layer(recipe, progress);
        if (!rendered) return rendered.error();
        if (rate == 0) rate = (*rendered)->sound.sampleRateHz;
        if ((*rendered)->sound.sampleRateHz != rate) return out; // a sum has one rate; files by themselves may not
        heard.push_back(monoOf((*rendered)->sound, layers[i].gainDb, kHeardS));
    }
    for (std::size_t j = 1; j < count; ++j)
        for (std::size_t i = 0; i < j; ++i) {
            if (progress.stopped()) return Error{ErrorCode::Cancelled, "comparing: stopped", ""};
            if (isSamePerformance(layers[i].recipe, layers[j].recipe)) continue;
            const auto sum = sumLoss({heard[i], heard[j]}, rate, kMostMs);
            if (!sum) continue; // one is silent, or too short to tell
            auto found = meetingFindings({layers[i].recipe.name, layers[j].recipe.name}, *sum, rate);
            if (found.empty()) continue;
            if (layers[i].place * layers[j].place < 0.0)
                for (Finding& f : found) f.severity = Severity::Note;
            out.insert(out.end(), found.begin(), found.end());
            break; // told once, against the first that it fights with
        }
    rank(out);
    return out;
}

} // namespace gristle::core
