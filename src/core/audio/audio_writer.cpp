#include "core/audio/audio_writer.h"

#include "core/audio/file_place.h"

#include "core/audio/sound_file.h"
#include "core/units/text.h"

#include <cerrno>
#include <cmath>
#include <fmt/format.h>
#include <sndfile.h>

namespace gristle::core {

namespace fs = std::filesystem;

struct AudioWriter::State {
    fs::path path;
    fs::path temporary;
    WriteOptions options;
    SNDFILE* file = nullptr;
    std::int64_t clipped = 0, notFinite = 0;
    std::vector<float> floats;
    std::vector<int> ints;

    ~State()
    {
        if (file) sf_close(file);
        if (!temporary.empty()) discard(temporary);
    }
};

namespace {

int subFormat(SampleFormat format)
{
    switch (format) {
    case SampleFormat::Int16: return SF_FORMAT_PCM_16;
    case SampleFormat::Int24: return SF_FORMAT_PCM_24;
    case SampleFormat::Float32: return SF_FORMAT_FLOAT;
    }
    return SF_FORMAT_PCM_24;
}

/// Opens a new WAV file for writing, RF64 where it will pass 4 GiB, without a peak chunk (which has a time stamp).
SNDFILE* openForWriting(const fs::path& path, SF_INFO info, int encoding, std::int64_t frames)
{
    constexpr std::int64_t kMostBytes = 0xFFFFFFFFll - 65536;
    const std::int64_t bytesASample = encoding == SF_FORMAT_DOUBLE ? 8 : 4;
    const bool isLong = frames * info.channels * bytesASample > kMostBytes;
    info.format = (isLong ? SF_FORMAT_RF64 : SF_FORMAT_WAV) | encoding;
    SNDFILE* file = sf_open(path.c_str(), SFM_WRITE, &info);
    if (!file) { // it may have begun one
        const int failure = errno;
        discard(path);
        errno = failure;
        return nullptr;
    }
    sf_command(file, SFC_SET_ADD_PEAK_CHUNK, nullptr, SF_FALSE);
    return file;
}

/// Before the first sample. Source: EBU Tech 3285, version 1.
void stamp(SNDFILE* file, std::int64_t frames)
{
    SF_BROADCAST_INFO info{};
    const auto bits = static_cast<std::uint64_t>(std::max<std::int64_t>(0, frames)); // there is no time before 0
    info.time_reference_low = static_cast<std::uint32_t>(bits);
    info.time_reference_high = static_cast<std::uint32_t>(bits >> 32);
    info.version = 1;
    sf_command(file, SFC_SET_BROADCAST_INFO, &info, sizeof info);
}

/// A sample that is a number; others are silence, and counted.
float finite(float x, std::int64_t& notFinite)
{
    if (std::isfinite(x)) return x;
    ++notFinite;
    return 0.0f;
}

/// Rounds to the nearest code of `bits` bits, held at the extremes, and shifts it to the top of an int.
int toCode(float x, int bits, std::int64_t& clipped)
{
    const double scale = static_cast<double>(1 << (bits - 1));
    const double wanted = double(x) * scale;
    const double held = std::clamp(wanted, -scale, scale - 1.0);
    if (std::abs(wanted - held) >= 0.5) ++clipped;
    return static_cast<int>(std::lrint(held)) * (1 << (32 - bits));
}

} // namespace

AudioWriter::AudioWriter(std::unique_ptr<State> state) : state_(std::move(state)) {}
AudioWriter::AudioWriter(AudioWriter&&) noexcept = default;
AudioWriter& AudioWriter::operator=(AudioWriter&&) noexcept = default;
AudioWriter::~AudioWriter() = default;

Result<AudioWriter> AudioWriter::create(const fs::path& path, const WriteOptions& options)
{
    auto state = std::make_unique<State>();
    state->path = path;
    state->options = options;
    const fs::path temporary = placeBeside(path);
    SF_INFO info{};
    info.samplerate = options.sampleRateHz;
    info.channels = static_cast<int>(options.channels);
    errno = 0;
    state->file = openForWriting(temporary, info, subFormat(options.format), options.expectedFrames);
    if (!state->file) return writeError(path, errno ? errno : EIO);
    state->temporary = temporary;
    if (options.stampFrames) stamp(state->file, *options.stampFrames);
    return AudioWriter(std::move(state));
}

Outcome AudioWriter::write(const AudioBuffer& block)
{
    State& s = *state_;
    const std::size_t channels = s.options.channels;
    const std::size_t frames = block.frames();
    sf_count_t written = 0;
    errno = 0;
    if (s.options.format == SampleFormat::Float32) {
        s.floats.resize(frames * channels);
        for (std::size_t c = 0; c < channels; ++c)
            for (std::size_t i = 0; i < frames; ++i)
                s.floats[i * channels + c] = finite(block.channel(c)[i], s.notFinite);
        written = sf_writef_float(s.file, s.floats.data(), static_cast<sf_count_t>(frames));
    } else {
        const int bits = s.options.format == SampleFormat::Int16 ? 16 : 24;
        s.ints.resize(frames * channels);
        for (std::size_t c = 0; c < channels; ++c)
            for (std::size_t i = 0; i < frames; ++i)
                s.ints[i * channels + c] = toCode(finite(block.channel(c)[i], s.notFinite), bits, s.clipped);
        written = sf_writef_int(s.file, s.ints.data(), static_cast<sf_count_t>(frames));
    }
    if (written != static_cast<sf_count_t>(frames)) return writeError(s.path, errno ? errno : ENOSPC);
    return Done{};
}

Outcome AudioWriter::commit()
{
    State& s = *state_;
    if (const int failure = closeWhole(std::exchange(s.file, nullptr)); failure != 0)
        return writeError(s.path, failure);
    const auto placed = putInPlace(s.temporary, s.path);
    if (placed || placed.error().code == ErrorCode::NotConfirmed) s.temporary.clear();
    return placed;
}

std::int64_t AudioWriter::notFiniteSamples() const noexcept { return state_->notFinite; }
std::int64_t AudioWriter::clippedSamples() const noexcept { return state_->clipped; }

Outcome writeRecording(const fs::path& path, const Recording& recording, SampleFormat format)
{
    auto writer = AudioWriter::create(path, {recording.sampleRateHz, recording.audio.channels(), format,
                                             static_cast<std::int64_t>(recording.audio.frames())});
    if (!writer) return writer.error();
    if (const auto written = writer->write(recording.audio); !written) return written;
    return writer->commit();
}

namespace {

/// One open file of libsndfile, closed when it goes.
struct SoundFile {
    SNDFILE* file = nullptr;
    ~SoundFile()
    {
        if (file) sf_close(file);
    }
};

Outcome checkWhole(const fs::path& file, const AudioInfo& info, ShortFile ifShort)
{
    if (!info.isTruncated() || ifShort == ShortFile::TakeWhatIsThere) return Done{};
    return Error{ErrorCode::Truncated,
                 fmt::format("{}: it holds {:.2f} s of the {:.2f} s that its header says", shownName(file),
                             info.durationS(), double(info.promisedFrames) / info.sampleRateHz),
                 "copy or export it again, or bring in what is there knowingly"};
}

/// Copies `frames` frames of `from` to `to` as T, only the first channel where `firstOnly`; 0 or errno of what failed.
struct CopyFailure {
    int reading = 0, writing = 0;
};

template<typename T, typename Read, typename Write>
CopyFailure copyFrames(SNDFILE* from, SNDFILE* to, const AudioInfo& info, bool firstOnly, Read read, Write write)
{
    constexpr sf_count_t kBlock = 16384;
    std::vector<T> block(static_cast<std::size_t>(kBlock) * info.channels);
    for (sf_count_t left = info.frames; left > 0;) {
        const sf_count_t wanted = std::min(left, kBlock);
        errno = 0;
        const sf_count_t got = read(from, block.data(), wanted);
        if (got < wanted) return {errno ? errno : EIO, 0};
        if (firstOnly)
            for (std::size_t i = 0; i < static_cast<std::size_t>(got); ++i) block[i] = block[i * info.channels];
        errno = 0;
        if (write(to, block.data(), got) != got) return {0, errno ? errno : ENOSPC};
        left -= got;
    }
    return {};
}

} // namespace

Result<CopyBeside> copyBeside(const fs::path& from, const fs::path& to, ShortFile ifShort)
{
    AudioInfo info;
    bool alike = false;
    { // reads all of it once: nothing that cannot be read to its end is taken in
        auto reader = AudioReader::open(from);
        if (!reader) return reader.error();
        info = reader->info();
        if (const auto whole = checkWhole(from, info, ifShort); !whole) return whole.error();
        if (ifShort == ShortFile::TakeWhatIsThere) reader->takeWhatIsThere();
        alike = info.channels > 1;
        while (true) {
            const auto block = reader->readInterleaved(65536);
            if (!block) return block.error();
            if (block->empty()) break;
            for (std::size_t i = 0; alike && i < block->size(); i += info.channels)
                for (std::size_t c = 1; c < info.channels; ++c) alike = alike && (*block)[i + c] == (*block)[i];
        }
    }
    SF_INFO in{};
    errno = 0;
    const SoundFile source{sf_open(from.c_str(), SFM_READ, &in)};
    if (!source.file) return readError(from, errno ? errno : EIO);
    int encoding = in.format & SF_FORMAT_SUBMASK;
    if (encoding == SF_FORMAT_PCM_S8) encoding = SF_FORMAT_PCM_U8; // WAV holds 8 bits unsigned: the same steps
    SF_INFO out{};
    out.samplerate = in.samplerate;
    out.channels = alike ? 1 : in.channels;

    const fs::path temporary = placeBeside(to);
    errno = 0;
    SNDFILE* const target = openForWriting(temporary, out, encoding, info.frames);
    if (!target) return writeError(to, errno ? errno : EIO);
    CopyFailure failure = info.isFloat
                              ? copyFrames<double>(source.file, target, info, alike, sf_readf_double, sf_writef_double)
                              : copyFrames<int>(source.file, target, info, alike, sf_readf_int, sf_writef_int);
    const int closing = closeWhole(target);
    if (failure.writing == 0) failure.writing = closing;
    if (failure.reading != 0 || failure.writing != 0) {
        discard(temporary);
        return failure.reading != 0 ? readError(from, failure.reading) : writeError(to, failure.writing);
    }
    info.channels = static_cast<std::size_t>(out.channels);
    info.container = "WAV";
    return CopyBeside{temporary, std::move(info)};
}

Result<CopyBeside> meanBeside(const fs::path& from, const fs::path& to, ShortFile ifShort)
{
    auto reader = AudioReader::open(from);
    if (!reader) return reader.error();
    const AudioInfo& info = reader->info();
    if (const auto whole = checkWhole(from, info, ifShort); !whole) return whole.error();
    if (ifShort == ShortFile::TakeWhatIsThere) reader->takeWhatIsThere();
    const fs::path temporary = placeBeside(to);
    auto writer = AudioWriter::create(temporary, {info.sampleRateHz, 1, SampleFormat::Float32, info.frames});
    if (!writer) return writer.error();
    AudioBuffer block, mean(1, 0);
    while (true) {
        const auto got = reader->read(block, 65536);
        if (!got) return got.error();
        if (*got == 0) break;
        mean.resize(*got);
        for (std::size_t i = 0; i < *got; ++i) {
            double sum = 0.0;
            for (std::size_t c = 0; c < info.channels; ++c) sum += double(block.channel(c)[i]);
            mean.channel(0)[i] = static_cast<float>(sum / double(info.channels));
        }
        if (const auto wrote = writer->write(mean); !wrote) return wrote.error();
    }
    if (const auto placed = writer->commit(); !placed) return placed.error();
    const auto made = AudioReader::open(temporary);
    if (!made) return discard(temporary), made.error();
    return CopyBeside{temporary, made->info()};
}

Result<AudioInfo> copyLosslessly(const fs::path& from, const fs::path& to)
{
    auto copy = copyBeside(from, to);
    if (!copy) return copy.error();
    if (const auto placed = putInPlace(copy->temporary, to); !placed) {
        discard(copy->temporary);
        return placed.error();
    }
    return std::move(copy->info);
}

} // namespace gristle::core
