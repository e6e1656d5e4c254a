#include "core/mix/mixdown.h"

#include "core/measure/octave_meter.h"
#include "core/measure/true_peak.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kBlock = 8192;

/// A layer at work in a mix.
struct Voice {
    LayerSource source;
    MixLayerReport report;
    PanGains gains;
    float level;
    LoudnessMeter loudness;
    OctaveMeter octaves;
    AudioBuffer block;

    Voice(LayerSource s, const MixLayer& layer, double gainDb, PanLaw law)
        : source(std::move(s)), level(static_cast<float>(dbToAmplitude(gainDb))),
          loudness(source.rateHz(), std::vector<ChannelRole>(source.channels(), ChannelRole::Plain)),
          octaves(source.rateHz())
    {
        gains = source.channels() == 1 ? panMono(layer.place, law) : panStereo(layer.place, law);
        report = {layer.recipe.file.string(), source.info(), layer.place, gainDb, std::nullopt,
                  source.channels(),          std::nullopt};
    }

    /// Adds the next block to the sum.
    Outcome add(std::array<std::vector<double>, 2>& sum)
    {
        const auto got = source.pull(block, kBlock);
        if (!got) return got.error();
        if (*got == 0) return Done{};
        std::vector<std::span<const float>> views;
        for (std::size_t c = 0; c < block.channels(); ++c) {
            for (float& x : block.channel(c)) x *= level;
            views.push_back(std::as_const(block).channel(c));
        }
        loudness.push(views);
        octaves.push(views.front());
        for (std::size_t i = 0; i < *got; ++i) {
            sum[0][i] += gains.left * double(views.front()[i]);
            sum[1][i] += gains.right * double(views.back()[i]);
        }
        return Done{};
    }
};

int mixRate(const std::vector<MixLayer>& layers, const MixOptions& options, Error& failure)
{
    if (options.rateHz > 0) return options.rateHz;
    const auto first = AudioReader::open(layers.front().recipe.file);
    if (first) return first->info().sampleRateHz;
    failure = first.error();
    return 0;
}

/// The gains that bring every layer to the loudness of the first, each measured without its own gain.
Result<std::vector<double>> matchedGains(const std::vector<MixLayer>& layers, int rate, const Progress& progress)
{
    std::vector<double> gains;
    std::optional<double> wanted;
    for (const MixLayer& layer : layers) {
        LayerRecipe recipe = layer.recipe;
        recipe.rateHz = rate;
        const auto own = layerLoudness(recipe, {progress.stop, nullptr});
        if (!own) return own.error();
        if (gains.empty()) {
            if (*own) wanted = **own + layer.gainDb;
            gains.push_back(layer.gainDb);
        } else {
            gains.push_back(wanted && *own ? *wanted - **own : layer.gainDb);
        }
    }
    return gains;
}

} // namespace

Result<std::optional<double>> layerLoudness(const LayerRecipe& recipe, const Progress& progress)
{
    auto source = LayerSource::open(recipe);
    if (!source) return source.error();
    LoudnessMeter meter(source->rateHz(), std::vector<ChannelRole>(source->channels(), ChannelRole::Plain));
    AudioBuffer block;
    for (std::int64_t done = 0; done < source->frames();) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "measuring: stopped", ""};
        const auto got = source->pull(block, kBlock);
        if (!got) return got.error();
        std::vector<std::span<const float>> views;
        for (std::size_t c = 0; c < block.channels(); ++c) views.push_back(std::as_const(block).channel(c));
        meter.push(views);
        done += std::int64_t(*got);
        progress.at(double(done) / double(source->frames()));
    }
    return meter.result().integratedLufs;
}

Result<MixReport> mixDown(const std::vector<MixLayer>& layers, const MixOptions& options,
                          const std::function<Outcome(const AudioBuffer&)>& take, const Progress& progress)
{
    if (layers.empty()) return Error{ErrorCode::Usage, "mix: there is no layer to mix", "name at least one take"};
    Error failure{ErrorCode::Usage, "", ""};
    const int rate = mixRate(layers, options, failure);
    if (rate == 0) return failure;
    std::vector<double> gains;
    for (const MixLayer& layer : layers) gains.push_back(layer.gainDb);
    if (options.match) {
        auto matched = matchedGains(layers, rate, progress);
        if (!matched) return matched.error();
        gains = std::move(*matched);
    }
    MixReport report;
    report.rateHz = rate;
    std::vector<std::unique_ptr<Voice>> voices;
    for (std::size_t i = 0; i < layers.size(); ++i) {
        LayerRecipe recipe = layers[i].recipe;
        recipe.rateHz = rate;
        auto source = LayerSource::open(recipe);
        if (!source) return source.error();
        report.frames = std::max(report.frames, source->frames());
        for (const auto& w : source->rig().warnings()) report.warnings.push_back(w);
        voices.push_back(std::make_unique<Voice>(std::move(*source), layers[i], gains[i], options.law));
    }
    LoudnessMeter loudness(rate, {ChannelRole::Plain, ChannelRole::Plain});
    StereoMeter stereo(rate);
    std::array<TruePeakMeter, 2> peaks{TruePeakMeter(rate), TruePeakMeter(rate)};
    std::array<std::vector<double>, 2> sum;
    AudioBuffer block(2, kBlock);
    for (std::int64_t done = 0; done < report.frames;) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "mixing: stopped", ""};
        const auto n = static_cast<std::size_t>(std::min<std::int64_t>(kBlock, report.frames - done));
        for (auto& side : sum) side.assign(kBlock, 0.0);
        for (auto& voice : voices)
            if (const auto added = voice->add(sum); !added) return added.error();
        block.resize(n);
        for (std::size_t c = 0; c < 2; ++c) {
            std::transform(sum[c].begin(), sum[c].begin() + long(n), block.channel(c).begin(),
                           [](double x) { return static_cast<float>(x); });
            peaks[c].push(block.channel(c));
        }
        const auto left = std::as_const(block).channel(0), right = std::as_const(block).channel(1);
        loudness.push({left, right});
        stereo.push(left, right);
        if (const auto taken = take(block); !taken) return taken.error();
        done += std::int64_t(n);
        progress.at(double(done) / double(report.frames));
    }
    for (auto& voice : voices) {
        voice->report.integratedLufs = voice->loudness.result().integratedLufs;
        if (voice->report.integratedLufs) voice->report.bodyDb = bodyDb(voice->octaves.result());
        report.layers.push_back(voice->report);
    }
    report.loudness = loudness.result();
    report.stereo = stereo.result();
    const double peak = std::max(peaks[0].finish(), peaks[1].finish());
    if (peak > 0.0) report.truePeakDbtp = amplitudeToDb(peak);
    return report;
}

Result<Recording> mixToMemory(std::vector<MixLayer> layers, const MixOptions& options, double fromS, double toS,
                              const Progress& progress)
{
    for (MixLayer& layer : layers) layer.recipe.startS = fromS, layer.recipe.endS = toS;
    Recording out{0, AudioBuffer(2, 0)};
    const auto report = mixDown(
        layers, options,
        [&](const AudioBuffer& block) -> Outcome {
            const std::size_t at = out.audio.frames();
            out.audio.resize(at + block.frames());
            for (std::size_t c = 0; c < 2; ++c)
                std::copy(block.channel(c).begin(), block.channel(c).end(), out.audio.channel(c).begin() + long(at));
            return Done{};
        },
        progress);
    if (!report) return report.error();
    out.sampleRateHz = report->rateHz;
    return out;
}

Result<MixReport> mixToFile(const std::filesystem::path& out, const std::vector<MixLayer>& layers,
                            const MixOptions& options, SampleFormat format, const Progress& progress)
{
    if (layers.empty()) return Error{ErrorCode::Usage, "mix: there is no layer to mix", "name at least one take"};
    Error failure{ErrorCode::Usage, "", ""};
    MixOptions fixed = options;
    fixed.rateHz = mixRate(layers, options, failure);
    if (fixed.rateHz == 0) return failure;
    std::int64_t longest = 0;
    for (const MixLayer& layer : layers) {
        const auto reader = layer.recipe.pieces.empty()
                                ? TakeReader::open(layer.recipe.file, layer.recipe.channelFromOne)
                                : TakeReader::join(layer.recipe.pieces);
        if (!reader) return reader.error();
        longest = std::max<std::int64_t>(
            longest, std::llround((reader->info().durationS() + CompiledRig::kLongestTailS) * fixed.rateHz));
    }
    auto writer = AudioWriter::create(out, {fixed.rateHz, 2, format, longest});
    if (!writer) return writer.error();
    auto report = mixDown(
        layers, fixed, [&](const AudioBuffer& block) { return writer->write(block); }, progress);
    if (!report) return report.error();
    if (const auto committed = writer->commit(); !committed) return committed.error();
    report->clippedSamples = writer->clippedSamples();
    report->notFiniteSamples = writer->notFiniteSamples();
    return report;
}

} // namespace gristle::core
