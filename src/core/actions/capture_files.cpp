#include "core/actions/capture_files.h"

#include "core/advice/impulse_findings.h"
#include "core/audio/audio_reader.h"
#include "core/units/decibels.h"
#include "core/units/text.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

Result<Recording> readOneSweep(const std::filesystem::path& file)
{
    constexpr double kLongestS = 600.0;
    const auto reader = AudioReader::open(file);
    if (!reader) return reader.error();
    if (reader->info().durationS() > kLongestS)
        return Error{ErrorCode::OutOfRange,
                     fmt::format("{}: {:.0f} minutes are no recording of one sweep", shownName(file),
                                 reader->info().durationS() / 60.0),
                     "cut the sweep's part out of it"};
    return readRecording(file);
}

/// Channels, from 1, that are microphones by themselves. @error as chooseChannel(), where one is asked for
Result<std::vector<int>> microphonesIn(const std::filesystem::path& file, const Recording& recording, int channel)
{
    if (const auto chosen = chooseChannel(file, channel); chosen)
        return std::vector<int>{int(*chosen) + 1};
    else if (channel != 0)
        return chosen.error();
    std::vector<int> all;
    for (std::size_t c = 0; c < recording.audio.channels(); ++c) all.push_back(int(c) + 1);
    return all;
}

} // namespace

Result<CapturedFiles> captureFiles(const SweepFiles& files, const Progress& progress)
{
    const auto played = readOneSweep(files.sweep);
    if (!played) return played.error();
    const auto sweepChannel = chooseChannel(files.sweep, 0);
    if (!sweepChannel) return sweepChannel.error();
    CapturedFiles out;
    std::vector<std::vector<float>> heard;
    for (const auto& file : files.recordings) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "capture: stopped", ""};
        const auto one = readOneSweep(file);
        if (!one) return one.error();
        if (one->sampleRateHz != played->sampleRateHz)
            return Error{ErrorCode::OutOfRange,
                         fmt::format("capture: the sweep is at {} Hz and {} at {} Hz", played->sampleRateHz,
                                     shownName(file), one->sampleRateHz),
                         "record at the sweep's rate, or make a sweep at the recording's"};
        const auto channels = microphonesIn(file, *one, files.channel);
        if (!channels) return channels.error();
        for (const int channel : *channels) {
            const auto x = one->audio.channel(std::size_t(channel - 1));
            float most = 0.0f;
            for (const float v : x) most = std::max(most, std::abs(v));
            const std::string name = file.stem().string();
            out.each.push_back({channels->size() > 1 ? fmt::format("{}, channel {}", name, channel) : name,
                                amplitudeToDb(double(most) + 1e-12),
                                {}});
            heard.emplace_back(x.begin(), x.end());
        }
    }
    auto set = captureSet(played->audio.channel(*sweepChannel), heard, played->sampleRateHz, files.options);
    if (!set) return set.error();
    out.set = std::move(*set);
    for (std::size_t i = 0; i < out.each.size(); ++i)
        out.each[i].findings = captureFindings(out.set.each[i], out.each[i].name);
    return out;
}

} // namespace gristle::core
