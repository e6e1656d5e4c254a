#include "core/mix/render/mixdown.h"

#include "core/measure/octave_meter.h"
#include "core/measure/true_peak.h"
#include "core/mix/render/render_cache.h"
#include "core/units/text.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kBlock = 8192;

/// No layer has more frames; rather too many. @error as TakeReader
Result<std::int64_t> mostFrames(const LayerRecipe& recipe, int rate)
{
    if (recipe.endS >= 0.0) return std::llround((recipe.endS - recipe.startS + std::max(0.0, recipe.tailS)) * rate) + 1;
    const auto reader =
        recipe.pieces.empty() ? TakeReader::open(recipe.file, recipe.channelFromOne) : TakeReader::join(recipe.pieces);
    if (!reader) return reader.error();
    return std::llround((reader->info().durationS() + std::max(0.0, -recipe.earlierS) + CompiledRig::kLongestTailS) *
                        rate);
}

/// A layer block by block: as it is rendered, or from the cache where that has room for it.
class Feed {
public:
    static Result<Feed> open(const LayerRecipe& recipe, RenderCache* cache, const Progress& progress)
    {
        if (cache) {
            const auto most = mostFrames(recipe, recipe.rateHz);
            if (!most) return most.error();
            if (cache->holds(*most, 2)) {
                auto rendered = cache->layer(recipe, progress);
                if (!rendered) return rendered.error();
                return Feed(std::move(*rendered));
            }
        }
        auto source = LayerSource::open(recipe);
        if (!source) return source.error();
        return Feed(std::move(*source));
    }
    int rateHz() const { return source_ ? source_->rateHz() : rendered_->report.rateHz; }
    std::size_t channels() const { return source_ ? source_->channels() : rendered_->report.channels; }
    std::int64_t frames() const { return source_ ? source_->frames() : rendered_->report.frames; }
    const AudioInfo& info() const { return source_ ? source_->info() : rendered_->report.source; }
    const std::vector<std::string>& warnings() const
    {
        return source_ ? source_->rig().warnings() : rendered_->report.warnings;
    }
    Result<std::size_t> pull(AudioBuffer& out, std::size_t frames)
    {
        if (source_) return source_->pull(out, frames);
        const AudioBuffer& from = rendered_->sound.audio;
        const std::size_t got = std::min(frames, from.frames() - at_);
        if (out.channels() != from.channels()) out = AudioBuffer(from.channels(), got);
        out.resize(got);
        for (std::size_t c = 0; c < from.channels(); ++c)
            std::ranges::copy(from.channel(c).subspan(at_, got), out.channel(c).begin());
        at_ += got;
        return got;
    }

private:
    explicit Feed(LayerSource source) : source_(std::move(source)) {}
    explicit Feed(RenderedPtr rendered) : rendered_(std::move(rendered)) {}
    std::optional<LayerSource> source_;
    RenderedPtr rendered_;
    std::size_t at_ = 0;
};

/// A layer at work in a mix.
struct Voice {
    Feed source;
    MixLayerReport report;
    PanGains gains;
    float level;
    LoudnessMeter loudness;
    OctaveMeter octaves;
    bool isMeasured;
    AudioBuffer block;

    Voice(Feed s, const MixLayer& layer, double gainDb, PanLaw law, bool measured)
        : source(std::move(s)), level(static_cast<float>(dbToAmplitude(gainDb))),
          loudness(source.rateHz(), std::vector<ChannelRole>(source.channels(), ChannelRole::Plain)),
          octaves(source.rateHz()), isMeasured(measured)
    {
        gains = source.channels() == 1 ? panMono(layer.place, law) : panStereo(layer.place, law);
        const auto& [file, name] = std::tie(layer.recipe.file, layer.recipe.name);
        report = {file.string(),
                  name.empty() ? shownName(file) : name,
                  source.info(),
                  layer.place,
                  gainDb,
                  std::nullopt,
                  source.channels(),
                  std::nullopt};
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
        if (isMeasured) {
            loudness.push(views);
            octaves.push(views.front());
        }
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

/// Loudness of each layer without its gain, matched to the first.
Result<std::vector<double>> matchedGains(const std::vector<MixLayer>& layers, int rate, const Progress& progress)
{
    std::vector<std::optional<double>> lufs;
    std::vector<double> gains;
    for (const MixLayer& layer : layers) {
        LayerRecipe recipe = layer.recipe;
        recipe.rateHz = rate;
        const auto own = layerLoudness(recipe, {progress.stop, nullptr});
        if (!own) return own.error();
        lufs.push_back(*own);
        gains.push_back(layer.gainDb);
    }
    return gainsToMatch(lufs, gains);
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

std::vector<double> gainsToMatch(const std::vector<std::optional<double>>& lufs, const std::vector<double>& gainsDb)
{
    std::vector<double> out = gainsDb;
    for (std::size_t i = 1; i < out.size(); ++i)
        if (lufs.front() && lufs[i]) out[i] = *lufs.front() + gainsDb.front() - *lufs[i];
    return out;
}

namespace {

using Take = std::function<Outcome(const AudioBuffer&)>;

/// What is told of the sum.
struct SumMeters {
    LoudnessMeter loudness;
    StereoMeter stereo;
    std::array<TruePeakMeter, 2> peaks;

    explicit SumMeters(int rate)
        : loudness(rate, {ChannelRole::Plain, ChannelRole::Plain}),
          stereo(rate), peaks{TruePeakMeter(rate), TruePeakMeter(rate)}
    {}
    void push(const AudioBuffer& block)
    {
        const auto left = block.channel(0), right = block.channel(1);
        loudness.push({left, right});
        stereo.push(left, right);
        peaks[0].push(left);
        peaks[1].push(right);
    }
    void tell(MixReport& report)
    {
        report.loudness = loudness.result();
        report.stereo = stereo.result();
        const double peak = std::max(peaks[0].finish(), peaks[1].finish());
        if (peak > 0.0) report.truePeakDbtp = amplitudeToDb(peak);
    }
};

/// Sums the voices block by block.
Outcome sumUp(std::vector<std::unique_ptr<Voice>>& voices, std::int64_t frames, SumMeters* meters, const Take& take,
              const Progress& progress)
{
    std::array<std::vector<double>, 2> sum;
    AudioBuffer block(2, kBlock);
    for (std::int64_t done = 0; done < frames;) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "mixing: stopped", ""};
        const auto n = static_cast<std::size_t>(std::min<std::int64_t>(kBlock, frames - done));
        for (auto& side : sum) side.assign(kBlock, 0.0);
        for (auto& voice : voices)
            if (const auto added = voice->add(sum); !added) return added.error();
        block.resize(n);
        for (std::size_t c = 0; c < 2; ++c)
            std::transform(sum[c].begin(), sum[c].begin() + long(n), block.channel(c).begin(),
                           [](double x) { return static_cast<float>(x); });
        if (meters) meters->push(block);
        if (const auto taken = take(block); !taken) return taken.error();
        done += std::int64_t(n);
        progress.at(double(done) / double(frames));
    }
    return Done{};
}

Result<MixReport> mixed(const std::vector<MixLayer>& layers, const MixOptions& options, bool isMeasured,
                        const Take& take, const Progress& progress, RenderCache* cache)
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
        const Progress part{progress.stop,
                            [&](double p) { progress.at(0.9 * (double(i) + p) / double(layers.size())); }};
        auto source = Feed::open(recipe, cache, part);
        if (!source) return source.error();
        report.frames = std::max(report.frames, source->frames());
        for (const auto& w : source->warnings()) report.warnings.push_back(w);
        voices.push_back(std::make_unique<Voice>(std::move(*source), layers[i], gains[i], options.law, isMeasured));
    }
    std::optional<SumMeters> meters;
    if (isMeasured) meters.emplace(rate);
    const Progress rest{progress.stop, [&](double p) { progress.at(cache ? 0.9 + 0.1 * p : p); }};
    if (const auto summed = sumUp(voices, report.frames, meters ? &*meters : nullptr, take, rest); !summed)
        return summed.error();
    if (!isMeasured) return report;
    for (auto& voice : voices) {
        voice->report.integratedLufs = voice->loudness.result().integratedLufs;
        if (voice->report.integratedLufs) voice->report.bodyDb = bodyDb(voice->octaves.result());
        report.layers.push_back(voice->report);
    }
    meters->tell(report);
    return report;
}

} // namespace

Result<MixReport> mixDown(const std::vector<MixLayer>& layers, const MixOptions& options, const Take& take,
                          const Progress& progress, RenderCache* cache)
{
    return mixed(layers, options, true, take, progress, cache);
}

Result<Recording> mixToMemory(std::vector<MixLayer> layers, const MixOptions& options, double fromS, double toS,
                              const Progress& progress, RenderCache* cache)
{
    for (MixLayer& layer : layers) layer.recipe.startS = fromS, layer.recipe.endS = toS;
    Recording out{0, AudioBuffer(2, 0)};
    const auto take = [&](const AudioBuffer& block) -> Outcome {
        const std::size_t at = out.audio.frames();
        out.audio.resize(at + block.frames());
        for (std::size_t c = 0; c < 2; ++c)
            std::ranges::copy(block.channel(c), out.audio.channel(c).begin() + long(at));
        return Done{};
    };
    const auto report = mixed(layers, options, false, take, progress, cache);
    if (!report) return report.error();
    out.sampleRateHz = report->rateHz;
    return out;
}

Result<MixReport> mixToFile(const std::filesystem::path& out, const std::vector<MixLayer>& layers,
                            const MixOptions& options, SampleFormat format, const Progress& progress,
                            RenderCache* cache)
{
    if (layers.empty()) return Error{ErrorCode::Usage, "mix: there is no layer to mix", "name at least one take"};
    Error failure{ErrorCode::Usage, "", ""};
    MixOptions fixed = options;
    fixed.rateHz = mixRate(layers, options, failure);
    if (fixed.rateHz == 0) return failure;
    std::int64_t longest = 0;
    for (const MixLayer& layer : layers) {
        const auto most = mostFrames(layer.recipe, fixed.rateHz);
        if (!most) return most.error();
        longest = std::max(longest, *most);
    }
    auto writer = AudioWriter::create(out, {fixed.rateHz, 2, format, longest});
    if (!writer) return writer.error();
    auto report = mixDown(
        layers, fixed, [&](const AudioBuffer& block) { return writer->write(block); }, progress, cache);
    if (!report) return report.error();
    if (const auto committed = writer->commit(); !committed) return committed.error();
    report->clippedSamples = writer->clippedSamples();
    report->notFiniteSamples = writer->notFiniteSamples();
    return report;
}

} // namespace gristle::core
