#include "core/audio/take_writer.h"

#include "core/audio/file_place.h"
#include "core/audio/sound_file.h"
#include "core/units/text.h"

#include <cerrno>
#include <cstring>
#include <sndfile.h>

namespace gristle::core {

namespace fs = std::filesystem;

struct TakeWriter::State {
    fs::path path;
    SNDFILE* file = nullptr;
    std::size_t channels = 1;
    bool isInteger = true;
    std::int64_t frames = 0;

    ~State()
    {
        if (file) sf_close(file);
    }
};

namespace {

void copyText(char* to, std::size_t size, const std::string& text)
{
    const std::string fits = cutText(text, size);
    std::memcpy(to, fits.data(), fits.size());
}

/// Digits of an ISO time as a number.
int digits(const std::string& when, std::size_t at) { return std::atoi(when.substr(at, 2).c_str()); }

/// The broadcast chunk: who, when, and the first sample counted from midnight. Source: EBU Tech 3285.
void describe(SNDFILE* file, const TakeFormat& format)
{
    if (format.when.size() < 19) return;
    SF_BROADCAST_INFO info{};
    copyText(info.description, sizeof info.description, format.description);
    copyText(info.originator, sizeof info.originator, "Gristle");
    copyText(info.origination_date, sizeof info.origination_date, format.when.substr(0, 10));
    copyText(info.origination_time, sizeof info.origination_time, format.when.substr(11, 8));
    const std::int64_t second = (digits(format.when, 11) * 60 + digits(format.when, 14)) * 60 + digits(format.when, 17);
    const auto sample = static_cast<std::uint64_t>(second * format.sampleRateHz);
    info.time_reference_low = static_cast<std::uint32_t>(sample);
    info.time_reference_high = static_cast<std::uint32_t>(sample >> 32);
    info.version = 1;
    sf_command(file, SFC_SET_BROADCAST_INFO, &info, sizeof info);
}

} // namespace

TakeWriter::TakeWriter(std::unique_ptr<State> state) : state_(std::move(state)) {}
TakeWriter::TakeWriter(TakeWriter&&) noexcept = default;
TakeWriter& TakeWriter::operator=(TakeWriter&&) noexcept = default;
TakeWriter::~TakeWriter() = default;

Result<TakeWriter> TakeWriter::create(const fs::path& path, const TakeFormat& format)
{
    if (isThere(path))
        return Error{ErrorCode::WriteFailed, shownName(path) + ": there is a file of this name already",
                     "choose another name"};
    auto state = std::make_unique<State>();
    state->path = path;
    state->channels = format.channels;
    state->isInteger = format.format != SampleFormat::Float32;
    SF_INFO info{};
    info.samplerate = format.sampleRateHz;
    info.channels = static_cast<int>(format.channels);
    info.format = SF_FORMAT_RF64 | (format.format == SampleFormat::Int16   ? SF_FORMAT_PCM_16
                                    : format.format == SampleFormat::Int24 ? SF_FORMAT_PCM_24
                                                                           : SF_FORMAT_FLOAT);
    errno = 0;
    state->file = sf_open(path.c_str(), SFM_WRITE, &info);
    if (!state->file) {
        const int failure = errno ? errno : EIO;
        discard(path);
        return writeError(path, failure);
    }
    sf_command(state->file, SFC_RF64_AUTO_DOWNGRADE, nullptr, SF_TRUE);
    sf_command(state->file, SFC_SET_ADD_PEAK_CHUNK, nullptr, SF_FALSE); // it carries the time of writing
    sf_command(state->file, SFC_SET_CLIPPING, nullptr, SF_TRUE);
    describe(state->file, format);
    TakeWriter writer(std::move(state));
    if (const auto begun = writer.sync(); !begun) {
        discard(path);
        return begun.error();
    }
    return writer;
}

Outcome TakeWriter::write(std::span<const float> interleaved)
{
    State& s = *state_;
    const auto frames = static_cast<sf_count_t>(interleaved.size() / s.channels);
    errno = 0;
    const sf_count_t written = sf_writef_float(s.file, interleaved.data(), frames);
    s.frames += std::max<sf_count_t>(0, written);
    if (written != frames) {
        const int reason = errno ? errno : ENOSPC;
        (void)sync();
        return writeError(s.path, reason);
    }
    return Done{};
}

Outcome TakeWriter::sync()
{
    State& s = *state_;
    errno = 0;
    sf_command(s.file, SFC_UPDATE_HEADER_NOW, nullptr, 0);
    if (sf_error(s.file) == SF_ERR_NO_ERROR) return Done{};
    const int reason = errno ? errno : EIO;
    // The library stays where the header broke off: what comes next would be written over what was first.
    sf_seek(s.file, s.frames, SEEK_SET);
    return writeError(s.path, reason);
}

Outcome TakeWriter::close()
{
    State& s = *state_;
    if (const int failure = closeWhole(std::exchange(s.file, nullptr)); failure != 0)
        return writeError(s.path, failure);
    return forceToDisk(s.path);
}

std::int64_t TakeWriter::frames() const noexcept { return state_->frames; }

} // namespace gristle::core
