#include "core/actions/compare_sides.h"

#include "core/session/layer_role.h"
#include "core/timing/onsets.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

/// Both channels' mean.
Result<std::vector<float>> mono(LayerRecipe recipe, const RigDocument& rig, RenderCache& cache, const Progress& p)
{
    recipe.rig = rig;
    const auto made = cache.layer(recipe, {p.stop, nullptr});
    if (!made) return made.error();
    const AudioBuffer& audio = (*made)->sound.audio;
    std::vector<float> out(audio.frames(), 0.0f);
    for (std::size_t c = 0; c < audio.channels(); ++c) {
        const auto x = audio.channel(c);
        for (std::size_t i = 0; i < x.size(); ++i) out[i] += x[i] / float(audio.channels());
    }
    return out;
}

std::vector<double> onsetsOf(std::span<const float> x, double rateHz)
{
    std::vector<double> out;
    for (const Onset& o : findOnsets(x, rateHz)) out.push_back(o.timeS);
    return out;
}

/// At one level, so that the louder one is not all of the sum.
void bringToLevel(std::vector<float>& x, const std::vector<float>& of)
{
    double wanted = 1e-12, own = 1e-12;
    for (const float v : of) wanted += double(v) * double(v);
    for (const float v : x) own += double(v) * double(v);
    const auto gain = float(std::sqrt(wanted / own));
    for (float& v : x) v *= gain;
}

} // namespace

ComparedSides compareSides(const LayerRecipe& first, const LayerRecipe& second, RenderCache& cache,
                           const Progress& progress)
{
    ComparedSides out;
    const auto dryFirst = mono(first, {}, cache, progress), drySecond = mono(second, {}, cache, progress);
    if (!dryFirst || !drySecond) {
        out.trouble = (dryFirst ? drySecond.error() : dryFirst.error()).line();
        return out;
    }
    const double rate = first.rateHz;
    const auto strokesFirst = onsetsOf(*dryFirst, rate), strokesSecond = onsetsOf(*drySecond, rate);
    if (strokesFirst.empty() || strokesSecond.empty()) {
        out.trouble = "Nobody plays within these bars: take others.";
        return out;
    }
    const auto both = [&](const RigDocument& rigFirst, const RigDocument& rigSecond) -> std::optional<Complement> {
        const auto x = mono(first, rigFirst, cache, progress);
        auto y = mono(second, rigSecond, cache, progress);
        if (!x || !y) {
            out.trouble = (x ? y.error() : x.error()).line();
            return std::nullopt;
        }
        bringToLevel(*y, *x);
        return complementOf(*x, *y, strokesFirst, strokesSecond, rate);
    };
    out.now = both(first.rig, second.rig);
    progress.at(0.5);
    if (!(first.rig == second.rig) && !progress.stopped()) out.exchanged = both(second.rig, first.rig);
    return out;
}

std::optional<std::pair<std::size_t, std::size_t>> sidesOf(const Part& part, std::size_t layer)
{
    const auto isUsable = [&](std::size_t i) {
        return i < part.layers.size() && isPlayed(part.layers[i]) && part.layers[i].chosenTake();
    };
    std::size_t own = layer;
    if (!isUsable(own))
        for (own = 0; own < part.layers.size() && !isUsable(own);) ++own;
    if (own >= part.layers.size()) return std::nullopt;
    const auto isAcross = [&](std::size_t i) { return part.layers[i].place * part.layers[own].place < 0.0; };
    std::optional<std::size_t> other;
    for (std::size_t i = 0; i < part.layers.size(); ++i)
        if (i != own && isUsable(i) && (!other || (isAcross(i) && !isAcross(*other)))) other = i;
    if (!other) return std::nullopt;
    return std::minmax(own, *other);
}

} // namespace gristle::core
