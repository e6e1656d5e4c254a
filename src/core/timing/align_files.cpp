#include "core/timing/align_files.h"

#include "core/audio/audio_writer.h"
#include "core/audio/file_place.h"
#include "core/audio/resampler.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace gristle::core {

namespace {

constexpr double kHeardS = 600.0;

Result<Recording> listen(const AlignInput& input)
{
    const auto& file = input.file;
    const auto reader = AudioReader::open(file);
    if (!reader) return reader.error();
    const auto channel = chooseChannel(file, input.channelFromOne);
    if (!channel) return channel.error();
    auto all = readRecording(
        file, 0, std::min<std::int64_t>(reader->info().frames, std::llround(kHeardS * reader->info().sampleRateHz)));
    if (!all) return all.error();
    Recording out{all->sampleRateHz, AudioBuffer(1, all->audio.frames())};
    std::ranges::copy(all->audio.channel(*channel), out.audio.channel(0).begin());
    return out;
}

std::filesystem::path copyOf(const std::filesystem::path& file, const std::filesystem::path& folder)
{
    return folder / (file.stem().string() + ".aligned.wav");
}

} // namespace

double lossTurnedOverDb(double lossDb) noexcept
{
    return -10.0 * std::log10(std::max(1e-9, 2.0 - std::pow(10.0, -lossDb / 10.0)));
}

Outcome writeMoved(const std::filesystem::path& from, const std::filesystem::path& to, double samples, bool invert,
                   const Progress& progress)
{
    constexpr std::int64_t kBlock = 1 << 16, kAround = 64;
    auto reader = AudioReader::open(from);
    if (!reader) return reader.error();
    const AudioInfo info = reader->info();
    auto writer = AudioWriter::create(to, {info.sampleRateHz, info.channels,
                                           info.isFloat      ? SampleFormat::Float32
                                           : info.bits <= 16 ? SampleFormat::Int16
                                                             : SampleFormat::Int24,
                                           info.frames});
    if (!writer) return writer.error();
    const auto whole = std::int64_t(std::floor(samples));
    AudioBuffer read, block(info.channels, 0);
    for (std::int64_t at = 0; at < info.frames; at += kBlock) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "aligning: stopped", ""};
        const std::int64_t n = std::min(kBlock, info.frames - at);
        // What the block is made of, with zeros before the start and behind the end.
        const std::int64_t first = at + whole - kAround, last = first + n + 2 * kAround + 1;
        const std::int64_t there = std::clamp<std::int64_t>(first, 0, info.frames),
                           end = std::clamp<std::int64_t>(last, 0, info.frames);
        std::size_t got = 0;
        if (end > there) {
            if (const auto wound = reader->seek(there); !wound) return wound.error();
            const auto result = reader->read(read, std::size_t(end - there));
            if (!result) return result.error();
            got = *result;
        }
        block.resize(std::size_t(n));
        for (std::size_t c = 0; c < info.channels; ++c) {
            std::vector<float> x(std::size_t(last - first), 0.0f);
            if (got > 0) std::copy_n(std::as_const(read).channel(c).begin(), got, x.begin() + long(there - first));
            const auto moved = movedEarlier(x, double(kAround) + samples - double(whole), invert);
            std::copy_n(moved.begin(), n, block.channel(c).begin());
        }
        if (const auto written = writer->write(block); !written) return written.error();
        progress.at(double(at + n) / double(info.frames));
    }
    return writer->commit();
}

Result<AlignedFiles> alignFiles(const AlignInput& reference, const std::vector<AlignInput>& others, double maxMs,
                                const Progress& progress)
{
    AlignedFiles out;
    out.reference = reference.file;
    const auto heard = listen(reference);
    if (!heard) return heard.error();
    out.rateHz = heard->sampleRateHz;
    for (const AlignInput& input : others) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "aligning: stopped", ""};
        auto other = listen(input);
        if (!other) return other.error();
        if (other->sampleRateHz != out.rateHz) *other = resampled(*other, out.rateHz);
        const auto aligned =
            alignTo(heard->audio.channel(0), std::as_const(other->audio).channel(0), out.rateHz, maxMs);
        if (!aligned)
            return Error{aligned.error().code, input.file.filename().string() + ": " + aligned.error().message,
                         aligned.error().remedy};
        AlignedFile& file = out.others.emplace_back();
        file.file = input.file;
        file.alignment = *aligned;
        file.isKeptLate = input.keepLate;
        if (file.isKeptLate)
            file.alignment.lossAfterDb =
                aligned->isInverted ? lossTurnedOverDb(aligned->lossBeforeDb) : aligned->lossBeforeDb;
        progress.at(double(out.others.size()) / double(others.size()));
    }
    return out;
}

Outcome writeAligned(AlignedFiles& aligned, const std::filesystem::path& folder, const Progress& progress)
{
    std::set<std::filesystem::path> names{copyOf(aligned.reference, "")};
    for (const AlignedFile& file : aligned.others)
        if (!names.insert(copyOf(file.file, "")).second)
            return Error{ErrorCode::Usage,
                         fmt::format("aligning: two files would be written as {}", copyOf(file.file, "").string()),
                         "rename one of them, or align them one after the other"};
    std::vector<std::filesystem::path> inputs{aligned.reference};
    for (const AlignedFile& file : aligned.others) inputs.push_back(file.file);
    for (const auto& input : inputs)
        if (const auto may = checkOutput(copyOf(input, folder), inputs); !may) return may;
    std::error_code failed;
    std::filesystem::create_directories(folder, failed);
    if (failed)
        return Error{ErrorCode::WriteFailed, fmt::format("{}: the folder cannot be made", folder.string()),
                     "choose another folder"};
    const Progress quiet{progress.stop, nullptr};
    aligned.referenceWritten = copyOf(aligned.reference, folder);
    if (const auto written = writeMoved(aligned.reference, aligned.referenceWritten, 0.0, false, quiet); !written)
        return written;
    for (std::size_t i = 0; i < aligned.others.size(); ++i) {
        AlignedFile& file = aligned.others[i];
        const auto reader = AudioReader::open(file.file);
        if (!reader) return reader.error();
        file.written = copyOf(file.file, folder);
        const double samples = file.isOneTake() && !file.isKeptLate
                                   ? file.alignment.delaySamples * reader->info().sampleRateHz / aligned.rateHz
                                   : 0.0;
        const bool invert = file.isOneTake() && file.alignment.isInverted;
        if (const auto written = writeMoved(file.file, file.written, samples, invert, quiet); !written) return written;
        progress.at(double(i + 1) / double(aligned.others.size()));
    }
    return Done{};
}

} // namespace gristle::core
