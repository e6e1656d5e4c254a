#include "core/session/recording_remains.h"

#include "core/audio/audio_reader.h"
#include "core/audio/file_place.h"
#include "core/audio/pcm_decode.h"
#include "core/audio/sound_head.h"
#include "core/audio/take_writer.h"
#include "core/units/text.h"

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <fstream>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

constexpr std::int64_t kCopyFrames = 1 << 16;

std::size_t bytesASample(SampleFormat format)
{
    return format == SampleFormat::Int16 ? 2 : format == SampleFormat::Int24 ? 3 : 4;
}

/// Bytes before the first sample of a take that is written in a layout: an empty one is made to see.
Result<std::int64_t> headBytes(const fs::path& recording, const SampleLayout& layout, const std::string& when)
{
    const fs::path trial = placeBeside(recording);
    {
        const auto writer =
            TakeWriter::create(trial, {layout.sampleRateHz, std::size_t(layout.channels), layout.format, "", when});
        if (!writer) return writer.error();
    }
    const auto head = readSoundHead(trial);
    discard(trial);
    if (!head) return head.error();
    return head->dataOffset.value_or(0);
}

} // namespace

Result<Remains> lookAt(const fs::path& recording, const RecordingNote& note)
{
    std::error_code failure;
    const auto size = fs::file_size(recording, failure);
    if (failure == std::errc::no_such_file_or_directory) return Remains{};
    if (failure) return readError(recording, failure.value());
    if (size == 0) return Remains{};
    Remains out;
    const auto reader = AudioReader::open(recording);
    if (!reader && reader.error().code == ErrorCode::FileUnreadable) return reader.error();
    const auto head = readSoundHead(recording);
    if (!head) return head.error();
    if (reader) {
        const AudioInfo& info = reader->info();
        const SampleFormat format = info.isFloat      ? SampleFormat::Float32
                                    : info.bits == 16 ? SampleFormat::Int16
                                                      : SampleFormat::Int24;
        out.layout = {info.sampleRateHz, int(info.channels), format};
        out.frames = info.frames;
    } else if (note.layout) {
        out.layout = *note.layout;
    } else {
        return Error{ErrorCode::BadDocument,
                     shownName(recording) + ": its header is damaged and its note says no format; it stays where it is",
                     "open it as raw samples in another program"};
    }
    const bool isUncounted = !reader && reader.error().code == ErrorCode::Empty && head->dataOffset;
    const auto offset = head->dataOffset && (reader || isUncounted) ? Result<std::int64_t>(*head->dataOffset)
                                                                    : headBytes(recording, out.layout, note.recorded);
    if (!offset) return offset.error();
    out.dataOffset = *offset;
    const auto frameBytes = std::int64_t(bytesASample(out.layout.format)) * out.layout.channels;
    const std::int64_t there = std::max<std::int64_t>(0, std::int64_t(size) - out.dataOffset) / frameBytes;
    if (there == 0 && !reader) return Remains{};
    using Kind = Remains::Kind;
    out.kind = there <= out.frames ? Kind::Whole : reader || isUncounted ? Kind::LongerThanItSays : Kind::BrokenHeader;
    out.frames = std::max(out.frames, there);
    return out;
}

Result<fs::path> copySamples(const fs::path& recording, const Remains& remains, const fs::path& to,
                             const RecordingNote& note)
{
    const SampleLayout& layout = remains.layout;
    errno = 0;
    std::ifstream from(recording, std::ios::binary);
    if (!from.seekg(remains.dataOffset)) return readError(recording, errno ? errno : EIO);
    const fs::path temporary = placeBeside(to);
    auto writer = TakeWriter::create(
        temporary, {layout.sampleRateHz, std::size_t(layout.channels), layout.format, "", note.recorded});
    if (!writer) return writer.error();
    const std::size_t width = bytesASample(layout.format), channels = std::size_t(layout.channels);
    std::vector<std::byte> bytes(std::size_t(kCopyFrames) * channels * width);
    std::vector<float> samples;
    for (std::int64_t left = remains.frames; left > 0;) {
        const auto frames = std::size_t(std::min<std::int64_t>(left, kCopyFrames));
        const std::size_t wanted = frames * channels * width;
        from.read(reinterpret_cast<char*>(bytes.data()), std::streamsize(wanted));
        if (std::size_t(from.gcount()) < wanted) return discard(temporary), readError(recording, EIO);
        samples.resize(frames * channels);
        if (layout.format == SampleFormat::Float32)
            std::memcpy(samples.data(), bytes.data(), wanted);
        else
            decodePcm(std::span(bytes).first(wanted), int(8 * width), samples);
        for (float& x : samples)
            if (!std::isfinite(x)) x = 0.0f; // what lies behind a broken header may be anything
        if (const auto wrote = writer->write(samples); !wrote) return discard(temporary), wrote.error();
        left -= std::int64_t(frames);
    }
    if (const auto closed = writer->close(); !closed) return discard(temporary), closed.error();
    return temporary;
}

} // namespace gristle::core
