#include "core/mix/figures/copies.h"

#include "core/mix/render/render_cache.h"
#include "core/signal/fft.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kLongestS = 60.0;
constexpr double kMostHz = 10000.0;

/// The mean power of one channel by frequency, over windows of about 0.7 s that overlap by half.
std::vector<double> powerOf(std::span<const float> x, int rateHz, double& binHz)
{
    const std::size_t n = fastFftSize(std::size_t(0.68 * rateHz));
    RealFft fft(n);
    std::vector<double> power(n / 2 + 1);
    for (std::size_t from = 0; from < x.size(); from += n / 2) {
        for (std::size_t i = 0; i < n; ++i) {
            const double window = 0.5 - 0.5 * std::cos(2.0 * std::numbers::pi * double(i) / double(n));
            fft.time()[i] = from + i < x.size() ? float(window * double(x[from + i])) : 0.0f;
        }
        fft.forward();
        for (std::size_t k = 0; k < power.size(); ++k) power[k] += double(std::norm(fft.spectrum()[k]));
    }
    binHz = double(rateHz) / double(n);
    return power;
}

} // namespace

bool isSamePerformance(const LayerRecipe& a, const LayerRecipe& b)
{
    return a.file == b.file && a.channelFromOne == b.channelFromOne && a.isStereo == b.isStereo &&
           a.startS == b.startS && a.rig.chain == b.rig.chain && a.rig.outputDb == b.rig.outputDb;
}

Result<std::vector<CopiedPerformance>> predictCopies(const std::vector<MixLayer>& layers, const MixOptions& options,
                                                     const Progress& progress, RenderCache* cache)
{
    std::vector<CopiedPerformance> out;
    std::vector<bool> isDone(layers.size());
    for (std::size_t i = 0; i < layers.size(); ++i) {
        if (isDone[i]) continue;
        CopiedPerformance one;
        for (std::size_t j = i; j < layers.size(); ++j)
            if (!isDone[j] && isSamePerformance(layers[i].recipe, layers[j].recipe))
                one.layers.push_back(j), isDone[j] = true;
        if (one.layers.size() < 2) continue;
        LayerRecipe recipe = layers[i].recipe;
        recipe.earlierS = 0.0, recipe.isInverted = false;
        if (options.rateHz > 0) recipe.rateHz = options.rateHz;
        recipe.endS = recipe.endS < 0.0 ? recipe.startS + kLongestS : std::min(recipe.endS, recipe.startS + kLongestS);
        RenderCache none(0);
        const auto rendered = (cache ? *cache : none).layer(recipe, progress);
        if (!rendered) return rendered.error();
        const Recording* const heard = &(*rendered)->sound;
        if (heard->audio.channels() != 1) continue; // its sides are another picture already
        std::vector<HeardCopy> copies;
        for (const std::size_t j : one.layers) {
            const PanGains pan = panMono(layers[j].place, options.law);
            const double gain = dbToAmplitude(layers[j].gainDb);
            copies.push_back(
                {gain * pan.left, gain * pan.right, -layers[j].recipe.earlierS, layers[j].recipe.isInverted});
        }
        double binHz = 0.0;
        const auto power = powerOf(heard->audio.channel(0), heard->sampleRateHz, binHz);
        one.monoLossDb = predictedMonoLossDb(power, binHz, copies);
        one.notches = predictedNotches(copies, kMostHz);
        out.push_back(std::move(one));
    }
    return out;
}

} // namespace gristle::core
