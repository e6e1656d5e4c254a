#include "core/mix/figures/stage_run.h"

#include "core/measure/loudness.h"
#include "core/mix/render/render.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kLongBlockS = 120; // for stages that are quicker with them
constexpr double kPrerollS = 0.5;

} // namespace

Result<StageInput> stageInput(const LayerRecipe& recipe, std::size_t stage, const Progress& progress)
{
    LayerRecipe dry = recipe;
    dry.rig = {};
    dry.output = dry.input;
    dry.startS = std::max(0.0, recipe.startS - kPrerollS);
    RenderReport report;
    auto di = renderToMemory(dry, report, progress);
    if (!di) return di.error();
    StageInput out;
    out.options.context = recipe.context;
    out.options.allowMissing = recipe.allowMissing;
    out.options.effort = recipe.effort;
    out.options.context.rateHz = di->sampleRateHz;
    out.options.context.fullScaleV = recipe.input.fullScaleVolts();
    out.fullScaleV = recipe.output.fullScaleVolts();
    out.preroll = std::min(di->audio.frames(),
                           static_cast<std::size_t>(std::llround((recipe.startS - dry.startS) * di->sampleRateHz)));
    const auto volts = static_cast<float>(recipe.input.fullScaleVolts());
    for (float& v : di->audio.channel(0)) v *= volts;
    const auto channel = di->audio.channel(0);
    out.di.assign(channel.begin(), channel.end());
    const RigChain& chain = recipe.rig.chain;
    auto before = playChain(RigChain(chain.begin(), chain.begin() + long(std::min(stage, chain.size()))), out.options,
                            di->audio, out.di, progress);
    if (!before) return before.error();
    out.before = std::move(*before);
    return out;
}

Result<AudioBuffer> playChain(const RigChain& chain, CompileOptions options, const AudioBuffer& in,
                              std::span<const float> di, const Progress& progress)
{
    if (chain.empty()) return in;
    options.channels = in.channels();
    const auto second = static_cast<std::size_t>(options.context.rateHz);
    options.longBlock = std::min(kLongBlockS * second, in.frames() + second); // no room that is not wanted
    RigDocument rig;
    rig.chain = chain;
    auto compiled = CompiledRig::compile(rig, options);
    if (!compiled) return compiled.error();
    const std::size_t late = compiled->latency(), frames = in.frames();
    AudioBuffer out(compiled->outputChannels(), frames);
    const std::size_t most = std::min(compiled->maxBlock(), frames + late);
    std::array<std::vector<float>, 2> work;
    for (auto& side : work) side.resize(most);
    std::vector<float> listen(most);
    for (std::size_t at = 0; at < frames + late; at += most) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "playing a chain: stopped", ""};
        const std::size_t n = std::min(most, frames + late - at);
        const auto fill = [&](std::span<const float> from, std::vector<float>& to) {
            for (std::size_t i = 0; i < n; ++i) to[i] = at + i < from.size() ? from[at + i] : 0.0f;
        };
        for (std::size_t c = 0; c < in.channels(); ++c) fill(in.channel(c), work[c]);
        fill(di, listen);
        AudioBlock block{{work[0].data(), work[1].data()}, in.channels(), n, listen.data()};
        compiled->process(block);
        for (std::size_t c = 0; c < out.channels(); ++c)
            for (std::size_t i = 0; i < n; ++i)
                if (at + i >= late && at + i - late < frames) out.channel(c)[at + i - late] = work[c][i];
    }
    return out;
}

Result<double> joinGainDb(const LayerRecipe& recipe, std::size_t split, const RigChain& alone, const Progress& progress)
{
    const RigChain& chain = recipe.rig.chain;
    if (split >= chain.size() || !chain[split].isSplit())
        return Error{ErrorCode::Usage, "joining: there is no split", ""};
    const auto input = stageInput(recipe, split, progress);
    if (!input) return input.error();
    RigNode sum = chain[split];
    sum.values.erase("gain");
    double loudness[2];
    for (const bool isSum : {false, true}) {
        const auto played =
            playChain(isSum ? RigChain{sum} : alone, input->options, input->before, input->di, progress);
        if (!played) return played.error();
        const auto lufs = integratedLoudness(heard(*input, *played), input->options.context.rateHz);
        if (!lufs) return 0.0; // nothing is played here
        loudness[isSum] = *lufs;
    }
    const ParameterSpec& gain = *lanesType().find("gain");
    return std::clamp(std::round((loudness[0] - loudness[1]) * 10.0) / 10.0, gain.min, gain.max);
}

AudioBuffer heard(const StageInput& input, const AudioBuffer& played)
{
    AudioBuffer out(played.channels(), played.frames() - input.preroll);
    for (std::size_t c = 0; c < out.channels(); ++c)
        std::ranges::copy(played.channel(c).subspan(input.preroll), out.channel(c).begin());
    return out;
}

} // namespace gristle::core
