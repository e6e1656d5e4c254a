#include "core/audio/audio_reader.h"

#include "core/audio/file_place.h"
#include "core/audio/pcm_decode.h"
#include "core/audio/sound_head.h"
#include "core/units/text.h"

#include <bit>
#include <cerrno>
#include <fmt/format.h>
#include <sndfile.h>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

constexpr int kLowestRateHz = 8000;
constexpr int kHighestRateHz = 192000;
constexpr int kMostChannels = 64;
constexpr float kSixteenBitStep = 1.0f / 32768.0f;

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

std::optional<std::int64_t> stampOf(SNDFILE* file)
{
    SF_BROADCAST_INFO info{};
    if (sf_command(file, SFC_GET_BROADCAST_INFO, &info, sizeof info) != SF_TRUE) return std::nullopt;
    return std::int64_t(std::uint64_t(info.time_reference_high) << 32 | info.time_reference_low);
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

/// Counts the frames of a file by decoding it to where it ends or breaks off.
std::int64_t countFrames(const fs::path& path, int channels)
{
    constexpr sf_count_t kBlock = 16384;
    SF_INFO info{};
    SNDFILE* const file = sf_open(path.c_str(), SFM_READ, &info);
    if (!file) return 0;
    std::vector<float> block(std::size_t(kBlock) * std::size_t(channels));
    std::int64_t frames = 0;
    for (sf_count_t got = 0; (got = sf_readf_float(file, block.data(), kBlock)) > 0;) frames += got;
    sf_close(file);
    return frames;
}

/// Whether the last frame that a file promises can be read.
bool hasLastFrame(SNDFILE* file, const SF_INFO& info)
{
    std::vector<float> frame(std::size_t(info.channels));
    const bool is =
        sf_seek(file, info.frames - 1, SEEK_SET) == info.frames - 1 && sf_readf_float(file, frame.data(), 1) == 1;
    return sf_seek(file, 0, SEEK_SET) == 0 && is;
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
    bool takesWhatIsThere = false;
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
    if (!fs::exists(status)) return readError(path, failure ? failure.value() : ENOENT);
    if (!fs::is_regular_file(status))
        return Error{ErrorCode::FileUnreadable, name + ": it is no ordinary file", "name an audio file"};
    if (fs::file_size(path, failure) == 0)
        return Error{ErrorCode::Empty, name + ": the file is empty", "record or export it again"};
    const auto head = readSoundHead(path);
    if (!head) return head.error();
    if (!head->isKnown)
        return Error{ErrorCode::NotAudio, name + ": it is no audio file of a kind that is read",
                     "export it as WAV, AIFF or FLAC"};

    if (head->contradictsItself)
        return Error{ErrorCode::NotAudio,
                     name + ": its head contradicts itself: bits a sample and bytes a frame do not go together",
                     "export it again as WAV with 16 or 24 bits or float"};

    auto state = std::make_unique<State>();
    state->path = path;
    SF_INFO info{};
    state->file = sf_open(path.c_str(), SFM_READ, &info);
    if (!state->file && sf_error(nullptr) == SF_ERR_SYSTEM) return readError(path, errno ? errno : EIO);
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
    std::int64_t promised = 0;
    if (container == "FLAC") {                                              // its length is a promise, or is left open
        constexpr std::int64_t kMostPromised = (std::int64_t{1} << 36) - 1; // the field has 36 bits; RFC 9639
        promised = info.frames <= kMostPromised ? info.frames : 0;
        if (promised <= 0 || !hasLastFrame(state->file, info)) {
            info.frames = countFrames(path, info.channels);
            sf_close(state->file);
            SF_INFO again{};
            state->file = sf_open(path.c_str(), SFM_READ, &again);
            if (!state->file) return readError(path, errno ? errno : EIO);
        }
    } else if (head->dataBytes) {
        promised = *head->dataBytes / (std::int64_t(info.channels) * std::max(1, encoding.bits / 8));
    }
    if (info.frames <= 0) return Error{ErrorCode::Empty, name + ": it holds no samples", "record or export it again"};

    AudioInfo& out = state->info;
    out.sampleRateHz = info.samplerate;
    out.channels = static_cast<std::size_t>(info.channels);
    out.frames = info.frames;
    out.promisedFrames = std::max<std::int64_t>(info.frames, promised);
    out.bits = encoding.bits;
    out.isFloat = encoding.isFloat;
    out.container = container;
    state->plainPcm = isPlainPcm(info.format);
    out.roles = rolesOf(state->file, info.channels);
    out.stampFrames = stampOf(state->file);
    return AudioReader(std::move(state));
}

const AudioInfo& AudioReader::info() const noexcept { return state_->info; }
const fs::path& AudioReader::path() const noexcept { return state_->path; }

Result<std::span<const float>> AudioReader::readInterleaved(std::size_t frames)
{
    State& s = *state_;
    const std::size_t channels = s.info.channels;
    const std::int64_t left = std::max<std::int64_t>(0, s.info.frames - s.at);
    const auto wanted = std::min<std::int64_t>(static_cast<std::int64_t>(frames), left);
    s.block.resize(static_cast<std::size_t>(wanted) * channels);
    errno = 0;
    const sf_count_t got = s.decode(wanted);
    const bool isFlac = s.info.container == "FLAC";
    if (got < wanted && sf_error(s.file) == SF_ERR_SYSTEM) return readError(s.path, errno ? errno : EIO);
    const bool breaksOff = got < wanted || (isFlac && frames > 0 && s.info.isTruncated() && got == left);
    if (breaksOff && !s.takesWhatIsThere) {
        const std::string where = fmt::format("{:.2f} s", double(s.at + got) / s.info.sampleRateHz);
        return Error{ErrorCode::FileUnreadable,
                     shownName(s.path) + (isFlac ? ": the file breaks off or is damaged near " + where
                                                 : ": it became shorter while it was read, and ends at " + where),
                     "copy or export it again"};
    }
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

void AudioReader::takeWhatIsThere() noexcept { state_->takesWhatIsThere = true; }

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
