#include "core/actions/sum_files.h"

#include "core/audio/audio_reader.h"
#include "core/audio/resampler.h"

#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kHeardS = 600.0;

Result<Recording> listen(const std::filesystem::path& file)
{
    const auto reader = AudioReader::open(file);
    if (!reader) return reader.error();
    auto all = readRecording(
        file, 0, std::min<std::int64_t>(reader->info().frames, std::llround(kHeardS * reader->info().sampleRateHz)));
    if (!all) return all.error();
    Recording out{all->sampleRateHz, AudioBuffer(1, all->audio.frames())};
    const auto mono = out.audio.channel(0);
    const auto channels = all->audio.channels();
    for (std::size_t c = 0; c < channels; ++c)
        for (std::size_t i = 0; i < mono.size(); ++i) mono[i] += all->audio.channel(c)[i] / float(channels);
    return out;
}

} // namespace

Result<SumAnswer> sumFiles(const std::vector<std::filesystem::path>& files, double maxMs, const Progress& progress)
{
    SumAnswer out;
    std::vector<Recording> heard;
    std::vector<std::span<const float>> signals;
    std::vector<std::string> names;
    for (const auto& file : files) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "summing: stopped", ""};
        auto one = listen(file);
        if (!one) return one.error();
        if (out.rateHz == 0) out.rateHz = one->sampleRateHz;
        if (one->sampleRateHz != out.rateHz) {
            out.warnings.push_back(fmt::format("{} has {} Hz and is read at {} Hz", file.filename().string(),
                                               one->sampleRateHz, out.rateHz));
            *one = resampled(*one, out.rateHz);
        }
        heard.push_back(std::move(*one));
        names.push_back(file.filename().string());
    }
    for (const Recording& r : heard) signals.push_back(r.audio.channel(0));
    auto sum = sumLoss(signals, out.rateHz, maxMs);
    if (!sum) return sum.error();
    out.sum = std::move(*sum);
    out.findings = meetingFindings(names, out.sum, out.rateHz);
    return out;
}

} // namespace gristle::core
