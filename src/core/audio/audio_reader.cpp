#include "core/audio/audio_reader.h"

#include "core/audio/pcm_decode.h"

#include <bit>
#include <cstring>
#include <fstream>
#include <sndfile.h>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

constexpr int kLowestRateHz = 8000;
constexpr int kHighestRateHz = 192000;
constexpr int kMostChannels = 64;
constexpr float kSixteenBitStep = 1.0f / 32768.0f;

std::string shownName(const fs::path& path) { return path.filename().string(); }

std::string containerName(int format)
{
    switch (format & SF_FORMAT_TYPEMASK) {
    case SF_FORMAT_WAV:
    case SF_FORMAT_WAVEX: return "WAV";
    case SF_FORMAT_RF64: return "RF64";
    case SF_FORMAT_W64: return "W64";
    case SF_FORMAT_AIFF: return "AIFF";
    case SF_FORMAT_FLAC: return "FLAC";
    default: return {};
    }
}

struct Encoding {
    int bits = 0;
    bool isFloat = false;
};

Encoding encodingOf(int format)
{
    switch (format & SF_FORMAT_SUBMASK) {
    case SF_FORMAT_PCM_S8:
    case SF_FORMAT_PCM_U8: return {8, false};
    case SF_FORMAT_PCM_16: return {16, false};
    case SF_FORMAT_PCM_24: return {24, false};
    case SF_FORMAT_PCM_32: return {32, false};
    case SF_FORMAT_FLOAT: return {32, true};
    case SF_FORMAT_DOUBLE: return {64, true};
    default: return {};
    }
}

std::vector<ChannelRole> rolesOf(SNDFILE* file, int channels)
{
    std::vector<ChannelRole> roles(static_cast<std::size_t>(channels), ChannelRole::Plain);
    std::vector<int> map(static_cast<std::size_t>(channels), 0);
    const int bytes = static_cast<int>(map.size() * sizeof(int));
    if (sf_command(file, SFC_GET_CHANNEL_MAP_INFO, map.data(), bytes) != SF_TRUE) return roles;
    for (std::size_t i = 0; i < map.size(); ++i) {
        if (map[i] == SF_CHANNEL_MAP_LFE) roles[i] = ChannelRole::LowFrequency;
        const bool surround = map[i] == SF_CHANNEL_MAP_REAR_LEFT || map[i] == SF_CHANNEL_MAP_REAR_RIGHT ||
                              map[i] == SF_CHANNEL_MAP_SIDE_LEFT || map[i] == SF_CHANNEL_MAP_SIDE_RIGHT;
        if (surround) roles[i] = ChannelRole::Surround;
    }
    return roles;
}

std::uint32_t littleEndian32(const char* bytes)
{
    std::uint32_t value = 0;
    for (int i = 3; i >= 0; --i) value = (value << 8) | static_cast<unsigned char>(bytes[i]);
    return value;
}

/// Whether a file begins as one of the containers that are read. Asked first, as the library tries many more kinds.
bool hasKnownHead(std::istream& file)
{
    char head[10] = {};
    file.read(head, sizeof head);
    if (std::string_view(head, 3) == "ID3") { // a tag before the file; its length has seven bits a byte
        std::int64_t length = 0;
        for (int i = 6; i < 10; ++i) length = (length << 7) | (head[i] & 0x7F);
        file.seekg(10 + length);
        file.read(head, 4);
    }
    constexpr std::string_view kKnown[] = {"RIFF", "RIFX", "RF64", "riff", "FORM", "fLaC"};
    return std::ranges::find(kKnown, std::string_view(head, 4)) != std::end(kKnown);
}

/// Whether samples lie in the file as plain little-endian codes that our own decoder takes.
bool isPlainPcm(int format)
{
    const int container = format & SF_FORMAT_TYPEMASK, code = format & SF_FORMAT_SUBMASK;
    const bool littleEndian = container == SF_FORMAT_WAV || container == SF_FORMAT_WAVEX ||
                              container == SF_FORMAT_RF64 || container == SF_FORMAT_W64;
    return littleEndian && (format & SF_FORMAT_ENDMASK) != SF_ENDIAN_BIG &&
           (code == SF_FORMAT_PCM_16 || code == SF_FORMAT_PCM_24);
}

/// Bytes that the data chunk of a plain WAV file promises; -1 where there is no such promise.
std::int64_t promisedDataBytes(const fs::path& path)
{
    std::ifstream file(path, std::ios::binary);
    char head[12] = {};
    if (!file.read(head, 12) || std::memcmp(head, "RIFF", 4) != 0 || std::memcmp(head + 8, "WAVE", 4) != 0) return -1;
    char chunk[8] = {};
    while (file.read(chunk, 8)) {
        const std::uint32_t size = littleEndian32(chunk + 4);
        if (std::memcmp(chunk, "data", 4) == 0) return size == 0xFFFFFFFFu ? -1 : static_cast<std::int64_t>(size);
        file.seekg(static_cast<std::streamoff>(size) + (size & 1), std::ios::cur);
    }
    return -1;
}

bool allFinite(std::span<const float> samples)
{
    std::uint32_t largest = 0;
    for (const float x : samples) largest = std::max(largest, std::bit_cast<std::uint32_t>(x) & 0x7FFFFFFFu);
    return largest < 0x7F800000u;
}

} // namespace

float AudioInfo::positiveClip() const noexcept
{
    if (isFloat) return 1.0f;
    return static_cast<float>(1.0 - std::ldexp(1.0, 1 - bits) - double(kSixteenBitStep));
}

float AudioInfo::negativeClip() const noexcept { return isFloat ? -1.0f : -1.0f + kSixteenBitStep; }

struct AudioReader::State {
    fs::path path;
    AudioInfo info;
    SNDFILE* file = nullptr;
    std::int64_t at = 0;
    std::vector<float> block;
    bool plainPcm = false;
    std::vector<std::byte> codes; ///< of plainPcm

    /// Up to `frames` frames into block; how many there were.
    sf_count_t decode(sf_count_t frames)
    {
        if (frames <= 0) return 0;
        if (!plainPcm) return sf_readf_float(file, block.data(), frames);
        const auto frameBytes = static_cast<sf_count_t>(info.channels) * info.bits / 8;
        codes.resize(static_cast<std::size_t>(frames * frameBytes));
        const sf_count_t got = sf_read_raw(file, codes.data(), frames * frameBytes) / frameBytes;
        decodePcm(codes, info.bits, std::span(block).first(static_cast<std::size_t>(got) * info.channels));
        return got;
    }

    ~State()
    {
        if (file) sf_close(file);
    }
};

AudioReader::AudioReader(std::unique_ptr<State> state) : state_(std::move(state)) {}
AudioReader::AudioReader(AudioReader&&) noexcept = default;
AudioReader& AudioReader::operator=(AudioReader&&) noexcept = default;
AudioReader::~AudioReader() = default;

Result<AudioReader> AudioReader::open(const fs::path& path)
{
    const std::string name = shownName(path);
    std::error_code failure;
    const auto status = fs::status(path, failure);
    if (!fs::exists(status))
        return Error{ErrorCode::FileMissing, name + ": there is no such file", "check the name and the folder"};
    if (!fs::is_regular_file(status))
        return Error{ErrorCode::FileUnreadable, name + ": it is no ordinary file", "name an audio file"};
    if (fs::file_size(path, failure) == 0)
        return Error{ErrorCode::Empty, name + ": the file is empty", "record or export it again"};
    std::ifstream head(path, std::ios::binary);
    if (!head)
        return Error{ErrorCode::FileUnreadable, name + ": it cannot be opened for reading", "check its permissions"};

    if (!hasKnownHead(head))
        return Error{ErrorCode::NotAudio, name + ": it is no audio file of a kind that is read",
                     "export it as WAV, AIFF or FLAC"};

    auto state = std::make_unique<State>();
    state->path = path;
    SF_INFO info{};
    state->file = sf_open(path.c_str(), SFM_READ, &info);
    if (!state->file)
        return Error{ErrorCode::NotAudio,
                     name + ": it is no audio file that can be read (" + sf_strerror(nullptr) + ")",
                     "export it as WAV, AIFF or FLAC"};
    const std::string container = containerName(info.format);
    const Encoding encoding = encodingOf(info.format);
    if (container.empty() || encoding.bits == 0)
        return Error{ErrorCode::Unsupported, name + ": this kind of audio file is not supported",
                     "export it as WAV, AIFF or FLAC with 16 or 24 bits or float"};
    if (info.samplerate < kLowestRateHz || info.samplerate > kHighestRateHz)
        return Error{ErrorCode::Unsupported,
                     name + ": its sample rate of " + std::to_string(info.samplerate) + " Hz is outside 8 to 192 kHz",
                     "export it at 44.1 to 192 kHz"};
    if (info.channels < 1 || info.channels > kMostChannels)
        return Error{ErrorCode::Unsupported,
                     name + ": it has " + std::to_string(info.channels) + " channels, at most 64",
                     "export fewer channels"};
    if (info.frames <= 0) return Error{ErrorCode::Empty, name + ": it holds no samples", "record or export it again"};

    AudioInfo& out = state->info;
    out.sampleRateHz = info.samplerate;
    out.channels = static_cast<std::size_t>(info.channels);
    out.frames = out.promisedFrames = info.frames;
    out.bits = encoding.bits;
    out.isFloat = encoding.isFloat;
    out.container = container;
    state->plainPcm = isPlainPcm(info.format);
    out.roles = rolesOf(state->file, info.channels);
    if (container == "WAV") {
        const std::int64_t promised = promisedDataBytes(path) / (info.channels * std::max(1, encoding.bits / 8));
        if (promised > out.frames) out.promisedFrames = promised;
    }
    return AudioReader(std::move(state));
}

const AudioInfo& AudioReader::info() const noexcept { return state_->info; }
const fs::path& AudioReader::path() const noexcept { return state_->path; }

Result<std::span<const float>> AudioReader::readInterleaved(std::size_t frames)
{
    State& s = *state_;
    const std::size_t channels = s.info.channels;
    s.block.resize(frames * channels);
    const std::int64_t left = std::max<std::int64_t>(0, s.info.frames - s.at);
    const auto wanted = std::min<std::int64_t>(static_cast<std::int64_t>(frames), left);
    const sf_count_t got = s.decode(wanted);
    if (got < wanted && s.info.container == "FLAC")
        return Error{ErrorCode::FileUnreadable,
                     shownName(s.path) + ": the file breaks off or is damaged near " +
                         std::to_string(double(s.at + got) / s.info.sampleRateHz) + " s",
                     "copy or export it again"};
    const std::span<const float> block(s.block.data(), static_cast<std::size_t>(got) * channels);
    if (s.info.isFloat && !allFinite(block))
        return Error{ErrorCode::NotFinite,
                     shownName(s.path) + ": it holds samples that are no numbers (NaN or infinite)",
                     "export it again, the program that wrote it made an error"};
    s.at += got;
    return block;
}

Result<std::size_t> AudioReader::read(AudioBuffer& into, std::size_t frames)
{
    const auto block = readInterleaved(frames);
    if (!block) return block.error();
    const std::size_t channels = state_->info.channels;
    const std::size_t got = block->size() / channels;
    if (into.channels() != channels) into = AudioBuffer(channels, got);
    into.resize(got);
    for (std::size_t c = 0; c < channels; ++c) takeChannel(*block, channels, c, into.channel(c));
    return got;
}

Outcome AudioReader::seek(std::int64_t frame)
{
    if (sf_seek(state_->file, frame, SEEK_SET) < 0)
        return Error{ErrorCode::FileUnreadable, shownName(state_->path) + ": it cannot be wound to another place",
                     "convert it to WAV"};
    state_->at = frame;
    return Done{};
}

Result<Recording> readRecording(const fs::path& path, std::int64_t start, std::int64_t frames)
{
    auto reader = AudioReader::open(path);
    if (!reader) return reader.error();
    const std::int64_t left = std::max<std::int64_t>(0, reader->info().frames - start);
    const auto count = static_cast<std::size_t>(frames < 0 ? left : std::min(left, frames));
    if (start > 0) {
        if (const auto wound = reader->seek(start); !wound) return wound.error();
    }
    // The header's length is a promise: no more is set aside than a while of sound before samples came.
    constexpr std::size_t kAtFirst = 1 << 20;
    Recording recording{reader->info().sampleRateHz, AudioBuffer(reader->info().channels, std::min(count, kAtFirst))};
    AudioBuffer block;
    std::size_t at = 0;
    while (at < count) {
        const auto got = reader->read(block, std::min<std::size_t>(65536, count - at));
        if (!got) return got.error();
        if (*got == 0) break;
        if (at + *got > recording.audio.frames()) recording.audio.resize(std::min(count, 2 * (at + *got)));
        for (std::size_t c = 0; c < block.channels(); ++c)
            std::copy(block.channel(c).begin(), block.channel(c).end(), recording.audio.channel(c).begin() + long(at));
        at += *got;
    }
    recording.audio.resize(at);
    return recording;
}

Result<std::size_t> chooseChannel(const fs::path& path, int channelFromOne)
{
    auto reader = AudioReader::open(path);
    if (!reader) return reader.error();
    const std::size_t channels = reader->info().channels;
    if (channelFromOne > 0) {
        if (static_cast<std::size_t>(channelFromOne) > channels)
            return Error{ErrorCode::Usage,
                         shownName(path) + ": it has no channel " + std::to_string(channelFromOne) + ", only " +
                             std::to_string(channels),
                         "name a channel from 1 on"};
        return static_cast<std::size_t>(channelFromOne - 1);
    }
    while (channels > 1) {
        const auto block = reader->readInterleaved(65536);
        if (!block) return block.error();
        if (block->empty()) break;
        for (std::size_t i = 0; i < block->size(); i += channels)
            for (std::size_t c = 1; c < channels; ++c)
                if ((*block)[i + c] != (*block)[i])
                    return Error{ErrorCode::OutOfRange,
                                 shownName(path) + ": its " + std::to_string(channels) +
                                     " channels differ and one is wanted",
                                 "say which with --channel"};
    }
    return std::size_t{0};
}

} // namespace gristle::core
