#include "core/mix/render/mixdown.h"

#include "core/measure/octave_meter.h"
#include "core/measure/true_peak.h"
#include "core/mix/render/render_cache.h"
#include "core/units/text.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kBlock = BusNetwork::kBlock;
constexpr double kBusPrerollS = 2.0; // that a bus hears before a stretch, for its echoes and memory

/// No layer has more frames; rather too many. @error as TakeReader
Result<std::int64_t> mostFrames(const LayerRecipe& recipe, int rate)
{
    if (recipe.endS >= 0.0) return std::llround((recipe.endS - recipe.startS + std::max(0.0, recipe.tailS)) * rate) + 1;
    const auto reader = openTake(recipe);
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
    std::vector<MixSend> ways; ///< where it goes
    LoudnessMeter loudness;
    std::vector<OctaveMeter> octaves; ///< of each channel
    std::array<double, 2> squares{};
    bool isMeasured;
    AudioBuffer block;

    Voice(Feed s, const MixLayer& layer, double gainDb, PanLaw law, bool measured)
        : source(std::move(s)), level(static_cast<float>(dbToAmplitude(gainDb))), ways(layer.sends),
          loudness(source.rateHz(), std::vector<ChannelRole>(source.channels(), ChannelRole::Plain)),
          isMeasured(measured)
    {
        for (std::size_t c = 0; c < source.channels(); ++c) octaves.emplace_back(source.rateHz());
        if (layer.isHeard) ways.push_back({layer.bus, 0.0});
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

    /// Adds the next block to where it goes.
    Outcome add(BusNetwork& network)
    {
        const auto got = source.pull(block, kBlock);
        if (!got) return got.error();
        if (*got == 0) {
            for (OctaveMeter& meter : octaves) meter.push(silence(kBlock)); // as the sums' meters go on
            return Done{};
        }
        std::vector<std::span<const float>> views;
        for (std::size_t c = 0; c < block.channels(); ++c) {
            for (float& x : block.channel(c)) x *= level;
            views.push_back(std::as_const(block).channel(c));
        }
        if (isMeasured) {
            loudness.push(views);
            for (std::size_t c = 0; c < views.size(); ++c) {
                octaves[c].push(views[c]);
                octaves[c].push(silence(kBlock - *got));
                for (const float x : views[c]) squares[c] += double(x) * double(x);
            }
        }
        for (const MixSend& way : ways) addTo(network.input(way.to), views, dbToAmplitude(way.gainDb));
        return Done{};
    }

    /// What it brought to the joins that it goes into.
    void tell(std::vector<BusNetwork::Came>& joins) const
    {
        for (const MixSend& way : ways)
            tell(joins[std::min(way.to, joins.size() - 1)], std::pow(dbToAmplitude(way.gainDb), 2));
    }

private:
    static std::span<const float> silence(std::size_t frames)
    {
        static const std::vector<float> zeros(kBlock, 0.0f);
        return std::span(zeros).first(frames);
    }
    void addTo(BusNetwork::Sides& sum, const std::vector<std::span<const float>>& views, double gain) const
    {
        const double left = gain * gains.left, right = gain * gains.right;
        for (std::size_t i = 0; i < views.front().size(); ++i) {
            sum[0][i] += left * double(views.front()[i]);
            sum[1][i] += right * double(views.back()[i]);
        }
    }
    void tell(BusNetwork::Came& join, double power) const
    {
        join.count += squares[0] + squares[1] > 0.0 ? 1 : 0;
        const double sides[] = {power * gains.left * gains.left, power * gains.right * gains.right};
        for (std::size_t side = 0; side < 2; ++side) {
            const std::size_t channel = std::min(side, octaves.size() - 1);
            join.squares += sides[side] * squares[channel];
            for (std::size_t b = 0; b < join.octaves.size(); ++b)
                join.octaves[b] += sides[side] * octaves[channel].powers()[b];
        }
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

using TakeBlock = std::function<Outcome(const AudioBuffer&)>;

/// What is told of the stretches that have a name.
class SpanMeters {
public:
    SpanMeters(const std::vector<SectionSpan>& spans, int rate) : rate_(rate)
    {
        for (const SectionSpan& span : spans) each_.push_back(std::make_unique<One>(span, rate));
    }
    void push(const AudioBuffer& block)
    {
        const auto end = at_ + std::int64_t(block.frames());
        for (auto& one : each_) {
            const auto from = std::clamp<std::int64_t>(std::llround(one->span.fromS * rate_), at_, end) - at_;
            const auto to = std::clamp<std::int64_t>(std::llround(one->span.toS * rate_), at_, end) - at_;
            if (to <= from) continue;
            const auto left = block.channel(0).subspan(std::size_t(from), std::size_t(to - from));
            const auto right = block.channel(1).subspan(std::size_t(from), std::size_t(to - from));
            one->loudness.push({left, right});
            one->stereo.push(left, right);
            for (const auto side : {left, right})
                for (const float x : side) one->peak = std::max(one->peak, std::abs(x));
        }
        at_ = end;
    }
    void tell(MixReport& report)
    {
        for (auto& one : each_) {
            const auto stereo = one->stereo.result();
            report.spans.push_back({one->span, one->loudness.result().integratedLufs,
                                    one->peak > 0.0f ? std::optional(amplitudeToDb(double(one->peak))) : std::nullopt,
                                    stereo.width, stereo.monoLossDb});
        }
    }

private:
    struct One {
        SectionSpan span;
        LoudnessMeter loudness;
        StereoMeter stereo;
        float peak = 0.0f;
        One(SectionSpan s, int rate)
            : span(std::move(s)), loudness(rate, {ChannelRole::Plain, ChannelRole::Plain}), stereo(rate)
        {}
    };
    int rate_;
    std::int64_t at_ = 0;
    std::vector<std::unique_ptr<One>> each_;
};

/// Loudness over 3 s each second. Source: EBU Tech 3341.
std::vector<float> shortTerm(std::span<const double> hops)
{
    constexpr auto kSecond = std::size_t(1.0 / LoudnessMeter::kHopS + 0.5), kWindow = 3 * kSecond;
    std::vector<float> out;
    for (std::size_t end = kWindow; end <= hops.size(); end += kSecond) {
        double sum = 0.0;
        for (std::size_t i = end - kWindow; i < end; ++i) sum += hops[i];
        out.push_back(sum > 0.0 ? std::max(-100.0f, float(LoudnessMeter::toLufs(sum / double(kWindow)))) : -100.0f);
    }
    return out;
}

/// What is told of the sum.
struct SumMeters {
    LoudnessMeter loudness;
    StereoMeter stereo;
    std::array<TruePeakMeter, 2> peaks;
    SpanMeters spans;

    SumMeters(int rate, const std::vector<SectionSpan>& named)
        : loudness(rate, {ChannelRole::Plain, ChannelRole::Plain}),
          stereo(rate), peaks{TruePeakMeter(rate), TruePeakMeter(rate)}, spans(named, rate)
    {}
    void push(const AudioBuffer& block)
    {
        const auto left = block.channel(0), right = block.channel(1);
        loudness.push({left, right});
        stereo.push(left, right);
        peaks[0].push(left);
        peaks[1].push(right);
        spans.push(block);
    }
    void tell(MixReport& report)
    {
        report.loudness = loudness.result();
        report.stereo = stereo.result();
        const double peak = std::max(peaks[0].finish(), peaks[1].finish());
        spans.tell(report);
        report.shortTermLufs = shortTerm(loudness.hops());
        if (peak > 0.0) report.truePeakDbtp = amplitudeToDb(peak);
    }
};

/// Sums the voices block by block; the first `toDrop` frames of the sum are not heard.
Outcome sumUp(std::vector<std::unique_ptr<Voice>>& voices, BusNetwork& network, std::int64_t toDrop,
              std::int64_t frames, SumMeters* meters, const TakeBlock& take, const Progress& progress)
{
    AudioBuffer block(2, kBlock);
    for (std::int64_t done = 0; done < frames;) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "mixing: stopped", ""};
        for (auto& voice : voices)
            if (const auto added = voice->add(network); !added) return added.error();
        const BusNetwork::Sides& sum = network.run();
        const auto dropped = std::min<std::int64_t>(toDrop, kBlock);
        toDrop -= dropped;
        const auto n = static_cast<std::size_t>(std::min<std::int64_t>(std::int64_t(kBlock) - dropped, frames - done));
        if (n == 0) continue;
        block.resize(n);
        for (std::size_t c = 0; c < 2; ++c)
            std::transform(sum[c].begin() + long(dropped), sum[c].begin() + long(dropped) + long(n),
                           block.channel(c).begin(), [](double x) { return static_cast<float>(x); });
        if (meters) meters->push(block);
        if (const auto taken = take(block); !taken) return taken.error();
        done += std::int64_t(n);
        progress.at(double(done) / double(frames));
    }
    return Done{};
}

/// What is rendered of a mix.
struct Wish {
    bool isMeasured = true;
    bool isWhole = true;   ///< with the buses' tails
    double unheardS = 0.0; ///< at the start, for the buses
};

Result<MixReport> mixed(const std::vector<MixLayer>& layers, const MixOptions& options, const Wish& wish,
                        const TakeBlock& take, const Progress& progress, RenderCache* cache)
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
    auto network = BusNetwork::make(options.buses, options.sum, rate, wish.isMeasured);
    if (!network) return network.error();
    MixReport report;
    report.rateHz = rate;
    report.warnings = network->warnings();
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
        voices.push_back(
            std::make_unique<Voice>(std::move(*source), layers[i], gains[i], options.law, wish.isMeasured));
    }
    const auto unheard = std::llround(wish.unheardS * rate);
    report.frames = std::max<std::int64_t>(0, report.frames - unheard);
    if (wish.isWhole) report.frames += std::llround(std::ceil(network->tailSeconds() * rate));

    if (options.frames > 0) report.frames = options.frames;
    std::optional<SumMeters> meters;
    if (wish.isMeasured) meters.emplace(rate, options.spans);
    const Progress rest{progress.stop, [&](double p) { progress.at(cache ? 0.9 + 0.1 * p : p); }};
    if (const auto summed = sumUp(voices, *network, unheard + std::int64_t(network->latency()), report.frames,
                                  meters ? &*meters : nullptr, take, rest);
        !summed)
        return summed.error();
    if (!wish.isMeasured) return report;
    std::vector<BusNetwork::Came> came(options.buses.size() + 1);
    for (auto& voice : voices) {
        voice->tell(came);
        voice->report.integratedLufs = voice->loudness.result().integratedLufs;
        if (voice->report.integratedLufs) voice->report.bodyDb = bodyDb(voice->octaves.front().result());
        report.layers.push_back(voice->report);
    }
    report.joins = network->joins(std::move(came));
    meters->tell(report);
    return report;
}

} // namespace

Result<MixReport> mixDown(const std::vector<MixLayer>& layers, const MixOptions& options, const TakeBlock& take,
                          const Progress& progress, RenderCache* cache)
{
    return mixed(layers, options, {}, take, progress, cache);
}

Result<Recording> mixToMemory(std::vector<MixLayer> layers, const MixOptions& options, double fromS, double toS,
                              const Progress& progress, RenderCache* cache)
{
    const bool hasRig = !options.sum.rig.chain.empty() ||
                        std::ranges::any_of(options.buses, [](const MixBus& b) { return !b.rig.chain.empty(); });
    const double unheardS = hasRig ? std::min(fromS, kBusPrerollS) : 0.0;
    for (MixLayer& layer : layers) layer.recipe.startS = fromS - unheardS, layer.recipe.endS = toS;
    Recording out{0, AudioBuffer(2, 0)};
    const auto take = [&](const AudioBuffer& block) -> Outcome {
        const std::size_t at = out.audio.frames();
        out.audio.resize(at + block.frames());
        for (std::size_t c = 0; c < 2; ++c)
            std::ranges::copy(block.channel(c), out.audio.channel(c).begin() + long(at));
        return Done{};
    };
    const auto report = mixed(layers, options, {false, false, unheardS}, take, progress, cache);
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
    auto writer = AudioWriter::create(out, {fixed.rateHz, 2, format, longest, options.stampFrames});
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
