#include "core/measure/measure_file.h"

#include "core/measure/true_peak.h"
#include "core/measure/vu.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kPeakTargetDbtp = -9.0; // contract
constexpr double kCeilingDbtp = -1.0;    // contract
constexpr std::size_t kBlock = 16384;

/// All the meters of one channel.
struct ChannelMeters {
    LevelMeter level;
    TruePeakMeter truePeak;
    VuMeter vu;
    HopTrack hops;
    PeakPyramid peaks;
    OctaveMeter octaves;

    explicit ChannelMeters(const AudioInfo& info)
        : level(info.sampleRateHz, info.positiveClip(), info.negativeClip()), truePeak(info.sampleRateHz),
          vu(info.sampleRateHz), hops(info.sampleRateHz), octaves(info.sampleRateHz)
    {}

    void push(std::span<const float> mono, bool keepPicture)
    {
        level.push(mono);
        truePeak.push(mono);
        vu.push(mono);
        hops.push(mono);
        if (!keepPicture) return;
        peaks.push(mono);
        octaves.push(mono);
    }
};

/// The median in dB of the VU readings in hops that play.
std::optional<double> typicalDbfs(std::span<const float> readings, const std::vector<bool>& playing)
{
    std::vector<float> played;
    for (std::size_t i = 0; i < std::min(readings.size(), playing.size()); ++i)
        if (playing[i]) played.push_back(readings[i]);
    if (played.empty()) return std::nullopt;
    const auto middle = played.begin() + long(played.size() / 2);
    std::ranges::nth_element(played, middle);
    if (!(*middle > 0.0f)) return std::nullopt;
    return powerToDb(double(*middle));
}

Result<ChannelMeasurement> conclude(ChannelMeters& meters, double rateHz, const SampleSource& source,
                                    const MeasureOptions& options)
{
    ChannelMeasurement out;
    out.level = meters.level.result();
    if (const double peak = meters.truePeak.finish(); peak > 0.0) out.truePeakDbtp = amplitudeToDb(peak);
    meters.vu.finish();
    meters.hops.finish();
    auto noise = analyseNoise(meters.hops, source, options.mains);
    if (!noise) return noise.error();
    out.noise = std::move(*noise);
    if (out.level.peakDbfs) {
        if (const double highest = meters.vu.maxDbfs(); std::isfinite(highest))
            out.vuMax = highest - options.referenceDbfs;
        if (const auto typical =
                out.noise.isNobodyPlaying() ? std::nullopt : typicalDbfs(meters.vu.readings(), out.noise.playing))
            out.vuTypical = *typical - options.referenceDbfs;
    }
    if (out.level.peakDbfs && !out.noise.isNobodyPlaying()) {
        const auto loudest = loudestStretches(meters.level.blockPeaks(), rateHz, source);
        if (!loudest) return loudest.error();
        out.held = heldPeaks(*loudest, rateHz);
    }
    if (options.keepPicture) {
        out.vuTrace.assign(meters.vu.readings().begin(), meters.vu.readings().end());
        meters.peaks.finish();
        out.peaks = std::move(meters.peaks);
        out.octavesDb = meters.octaves.result();
        auto spectra = restSpectra(meters.hops, out.noise, source);
        if (!spectra) return spectra.error();
        out.spectra = std::move(*spectra);
    }
    return out;
}

/// Reads a stretch of one channel of a file again.
Result<std::vector<float>> readAgain(AudioReader& reader, std::size_t channel, std::int64_t start, std::int64_t count)
{
    if (const auto wound = reader.seek(start); !wound) return wound.error();
    std::vector<float> out;
    AudioBuffer block;
    while (std::int64_t(out.size()) < count) {
        const auto got = reader.read(
            block, static_cast<std::size_t>(std::min<std::int64_t>(kBlock, count - std::int64_t(out.size()))));
        if (!got) return got.error();
        if (*got == 0) break;
        out.insert(out.end(), block.channel(channel).begin(), block.channel(channel).end());
    }
    return out;
}

} // namespace

bool ChannelMeasurement::isClipped() const
{
    return level.clippedSamples > 0 || level.flatTopRuns >= LevelResult::kFewestFlatTops || held.isClipped();
}

bool FileMeasurement::isNobodyPlaying() const
{
    return !channels.empty() && std::ranges::all_of(channels, [](const auto& c) { return c.noise.isNobodyPlaying(); });
}

GainAdvice adviseGain(const std::vector<ChannelMeasurement>& channels, TargetSchool school)
{
    GainAdvice advice;
    advice.target = school;
    std::optional<double> typical, peak;
    for (const auto& c : channels) {
        if (c.noise.isNobodyPlaying()) continue; // noise needs no gain
        if (c.vuTypical) typical = std::max(typical.value_or(*c.vuTypical), *c.vuTypical);
        if (c.truePeakDbtp) peak = std::max(peak.value_or(*c.truePeakDbtp), *c.truePeakDbtp);
    }
    if (!peak || (school == TargetSchool::Average && !typical)) return advice;
    const double wanted = school == TargetSchool::Average ? -*typical : kPeakTargetDbtp - *peak;
    const double most = kCeilingDbtp - *peak;
    advice.heldByHeadroom = wanted > most;
    advice.heldByClipping =
        std::min(wanted, most) > 0.0 && std::ranges::any_of(channels, &ChannelMeasurement::isClipped);
    if (!advice.heldByClipping) advice.gainChangeDb = std::min(wanted, most);
    return advice;
}

Result<FileMeasurement> measureFile(const std::filesystem::path& path, const MeasureOptions& options,
                                    const Progress& progress)
{
    auto reader = AudioReader::open(path);
    if (!reader) return reader.error();
    FileMeasurement out;
    out.file = path.string();
    out.info = reader->info();
    if (options.channel > out.info.channels)
        return Error{ErrorCode::OutOfRange,
                     path.filename().string() + ": it has no channel " + std::to_string(options.channel),
                     "choose one of its " + std::to_string(out.info.channels)};
    const std::size_t first = options.channel > 0 ? options.channel - 1 : 0,
                      channels = options.channel > 0 ? 1 : out.info.channels;
    std::vector<ChannelMeters> meters;
    for (std::size_t c = 0; c < channels; ++c) meters.emplace_back(out.info);
    LoudnessMeter loudness(out.info.sampleRateHz,
                           {out.info.roles.begin() + long(first), out.info.roles.begin() + long(first + channels)});
    AudioBuffer block;
    std::vector<std::span<const float>> views(channels);
    std::int64_t done = 0;
    while (true) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, path.filename().string() + ": stopped", ""};
        const auto got = reader->read(block, kBlock);
        if (!got) return got.error();
        if (*got == 0) break;
        for (std::size_t c = 0; c < channels; ++c) {
            views[c] = std::as_const(block).channel(first + c);
            meters[c].push(views[c], options.keepPicture);
        }
        loudness.push(views);
        done += std::int64_t(*got);
        progress.at(double(done) / double(out.info.frames));
    }
    if (done == 0)
        return Error{ErrorCode::Empty, path.filename().string() + ": it holds no samples", "record or export it again"};
    out.info.frames = done;
    for (std::size_t c = 0; c < channels; ++c) {
        const SampleSource source = [&, c](std::int64_t start, std::int64_t count) {
            return readAgain(*reader, first + c, start, count);
        };
        auto channel = conclude(meters[c], out.info.sampleRateHz, source, options);
        if (!channel) return channel.error();
        out.channels.push_back(std::move(*channel));
    }
    out.loudness = loudness.result();
    out.advice = adviseGain(out.channels, options.target);
    return out;
}

} // namespace gristle::core
