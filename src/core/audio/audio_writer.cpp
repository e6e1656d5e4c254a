#include "core/audio/audio_writer.h"

#include "core/audio/file_place.h"

#include <cerrno>
#include <sndfile.h>

namespace gristle::core {

namespace fs = std::filesystem;

struct AudioWriter::State {
    fs::path path;
    fs::path temporary;
    WriteOptions options;
    SNDFILE* file = nullptr;
    std::int64_t clipped = 0;
    std::vector<float> floats;
    std::vector<int> ints;

    ~State()
    {
        if (file) sf_close(file);
        std::error_code ignored;
        if (!temporary.empty()) fs::remove(temporary, ignored);
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

/// Opens a WAV file for writing, RF64 where it will pass 4 GiB, without a peak chunk (which has a time stamp).
SNDFILE* openForWriting(const fs::path& path, SF_INFO info, int encoding, std::int64_t frames)
{
    constexpr std::int64_t kMostBytes = 0xFFFFFFFFll - 65536;
    const std::int64_t bytesASample = encoding == SF_FORMAT_DOUBLE ? 8 : 4;
    const bool isLong = frames * info.channels * bytesASample > kMostBytes;
    info.format = (isLong ? SF_FORMAT_RF64 : SF_FORMAT_WAV) | encoding;
    SNDFILE* file = sf_open(path.c_str(), SFM_WRITE, &info);
    if (!file) return nullptr;
    sf_command(file, SFC_SET_ADD_PEAK_CHUNK, nullptr, SF_FALSE);
    return file;
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
            for (std::size_t i = 0; i < frames; ++i) s.floats[i * channels + c] = block.channel(c)[i];
        written = sf_writef_float(s.file, s.floats.data(), static_cast<sf_count_t>(frames));
    } else {
        const int bits = s.options.format == SampleFormat::Int16 ? 16 : 24;
        s.ints.resize(frames * channels);
        for (std::size_t c = 0; c < channels; ++c)
            for (std::size_t i = 0; i < frames; ++i)
                s.ints[i * channels + c] = toCode(block.channel(c)[i], bits, s.clipped);
        written = sf_writef_int(s.file, s.ints.data(), static_cast<sf_count_t>(frames));
    }
    if (written != static_cast<sf_count_t>(frames)) return writeError(s.path, errno ? errno : ENOSPC);
    return Done{};
}

Outcome AudioWriter::commit()
{
    State& s = *state_;
    errno = 0;
    const int closed = sf_close(s.file);
    s.file = nullptr;
    if (closed != 0) return writeError(s.path, errno ? errno : ENOSPC);
    const fs::path temporary = std::exchange(s.temporary, {});
    return putInPlace(temporary, s.path);
}

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

/// Copies all frames of `from` to `to` as T, only the first channel where `firstOnly`. False where writing fails.
template<typename T, typename Read, typename Write>
bool copyFrames(SNDFILE* from, SNDFILE* to, std::size_t channels, bool firstOnly, Read read, Write write)
{
    constexpr sf_count_t kBlock = 16384;
    std::vector<T> block(static_cast<std::size_t>(kBlock) * channels);
    for (sf_count_t got = 0; (got = read(from, block.data(), kBlock)) > 0;) {
        if (firstOnly)
            for (std::size_t i = 0; i < static_cast<std::size_t>(got); ++i) block[i] = block[i * channels];
        if (write(to, block.data(), got) != got) return false;
    }
    return true;
}

} // namespace

Result<AudioInfo> copyLosslessly(const fs::path& from, const fs::path& to)
{
    AudioInfo info;
    bool alike = false;
    { // reads all of it once: nothing that cannot be read to its end is taken in
        auto reader = AudioReader::open(from);
        if (!reader) return reader.error();
        info = reader->info();
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
    const SoundFile source{sf_open(from.c_str(), SFM_READ, &in)};
    if (!source.file)
        return Error{ErrorCode::FileUnreadable, from.filename().string() + ": it cannot be read", "check the file"};
    int encoding = in.format & SF_FORMAT_SUBMASK;
    if (encoding == SF_FORMAT_PCM_S8) encoding = SF_FORMAT_PCM_U8; // WAV holds 8 bits unsigned: the same steps
    const std::size_t channels = info.channels;
    SF_INFO out{};
    out.samplerate = in.samplerate;
    out.channels = alike ? 1 : in.channels;

    const fs::path temporary = placeBeside(to);
    errno = 0;
    bool whole = false;
    {
        const SoundFile target{openForWriting(temporary, out, encoding, info.frames)};
        if (!target.file) return writeError(to, errno ? errno : EIO);
        whole = info.isFloat
                    ? copyFrames<double>(source.file, target.file, channels, alike, sf_readf_double, sf_writef_double)
                    : copyFrames<int>(source.file, target.file, channels, alike, sf_readf_int, sf_writef_int);
    }
    if (!whole) {
        std::error_code ignored;
        fs::remove(temporary, ignored);
        return writeError(to, errno ? errno : ENOSPC);
    }
    if (const auto placed = putInPlace(temporary, to); !placed) return placed.error();
    info.channels = static_cast<std::size_t>(out.channels);
    info.container = "WAV";
    return info;
}

} // namespace gristle::core
