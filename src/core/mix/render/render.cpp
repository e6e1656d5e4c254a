#include "core/mix/render/render.h"

namespace gristle::core {

namespace {

constexpr std::size_t kBlock = 16384;

/// Pulls a source to its end and hands every block on.
Outcome pullAll(LayerSource& source, const Progress& progress, const std::function<Outcome(const AudioBuffer&)>& take)
{
    AudioBuffer block;
    for (std::int64_t done = 0; done < source.frames();) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "rendering: stopped", ""};
        const auto got = source.pull(block, kBlock);
        if (!got) return got.error();
        if (const auto taken = take(block); !taken) return taken;
        done += std::int64_t(*got);
        progress.at(double(done) / double(source.frames()));
    }
    return Done{};
}

void describe(const LayerSource& source, RenderReport& report)
{
    report.frames = source.frames();
    report.rateHz = source.rateHz();
    report.channels = source.channels();
    report.latencySamples = source.latency();
    report.durationS = double(source.frames()) / source.rateHz();
    report.inputFullScaleVolts = source.inputFullScaleVolts();
    report.source = source.info();
    report.stages = source.rig().stages();
    report.warnings = source.rig().warnings();
}

} // namespace

Result<RenderReport> renderToFile(const std::filesystem::path& out, const LayerRecipe& recipe, SampleFormat format,
                                  const Progress& progress)
{
    auto source = LayerSource::open(recipe);
    if (!source) return source.error();
    auto writer = AudioWriter::create(out, {source->rateHz(), source->channels(), format, source->frames()});
    if (!writer) return writer.error();
    const auto pulled = pullAll(*source, progress, [&](const AudioBuffer& block) { return writer->write(block); });
    if (!pulled) return pulled.error();
    if (const auto committed = writer->commit(); !committed) return committed.error();
    RenderReport report;
    describe(*source, report);
    report.clippedSamples = writer->clippedSamples();
    report.notFiniteSamples = writer->notFiniteSamples();
    return report;
}

Result<Recording> renderToMemory(const LayerRecipe& recipe, RenderReport& report, const Progress& progress)
{
    auto source = LayerSource::open(recipe);
    if (!source) return source.error();
    Recording out{source->rateHz(), AudioBuffer(source->channels(), static_cast<std::size_t>(source->frames()))};
    std::size_t at = 0;
    const auto pulled = pullAll(*source, progress, [&](const AudioBuffer& block) -> Outcome {
        for (std::size_t c = 0; c < block.channels(); ++c)
            std::copy(block.channel(c).begin(), block.channel(c).end(), out.audio.channel(c).begin() + long(at));
        at += block.frames();
        return Done{};
    });
    if (!pulled) return pulled.error();
    describe(*source, report);
    return out;
}

} // namespace gristle::core
