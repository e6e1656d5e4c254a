#pragma once

#include "core/audio/audio_buffer.h"
#include "core/units/result.h"

#include <cstdint>
#include <filesystem>
#include <memory>
#include <optional>

namespace gristle::core {

/// What speaker a channel belongs to, as far as loudness asks. Source: ITU-R BS.1770-4, table 3.
enum class ChannelRole { Plain, Surround, LowFrequency };

struct AudioInfo {
    int sampleRateHz = 0;
    std::size_t channels = 0;
    std::int64_t frames = 0;
    int bits = 0;          ///< of the samples on disk
    bool isFloat = false;  ///< samples on disk are floating point and may pass 1.0
    std::string container; ///< "WAV", "AIFF", "FLAC", "RF64", "W64"
    std::vector<ChannelRole> roles;
    std::optional<std::int64_t> stampFrames; ///< time stamp of frame 0, frames; source: EBU Tech 3285, TimeReference
    std::int64_t promisedFrames = 0;         ///< what the header says, where the file holds fewer; else as frames

    double durationS() const noexcept { return static_cast<double>(frames) / sampleRateHz; }
    bool isTruncated() const noexcept { return promisedFrames > frames; }
    /// From this positive sample value on a sample counts as full scale: one 16-bit step under the extreme code.
    float positiveClip() const noexcept;
    float negativeClip() const noexcept;
};

/// Reads an audio file from front to back in blocks, or from a frame on. WAV, RF64, WAVE64, AIFF, FLAC; 8 to 192 kHz;
/// 1 to 64 channels. One thread at a time. Where a FLAC says nothing of its length, or its end is not where it says,
/// it is decoded once to be counted.
class AudioReader {
public:
    /// @error FileMissing, FileUnreadable (no permission, an error of the disk), NotAudio, Unsupported, Empty
    static Result<AudioReader> open(const std::filesystem::path& path);

    AudioReader(AudioReader&&) noexcept;
    AudioReader& operator=(AudioReader&&) noexcept;
    ~AudioReader();

    const AudioInfo& info() const noexcept;
    const std::filesystem::path& path() const noexcept;
    /// Reads up to `frames` frames, interleaved, full scale 1.0; the span lives until the next call; empty at the end.
    /// @error NotFinite where a sample is NaN or infinite; FileUnreadable where the disk fails, where the file became
    /// shorter than it was when opened, and where a FLAC breaks off
    Result<std::span<const float>> readInterleaved(std::size_t frames);
    /// The same into a planar buffer, which takes the length that was read.
    Result<std::size_t> read(AudioBuffer& into, std::size_t frames);
    /// @error FileUnreadable where the file cannot be wound to that frame
    Outcome seek(std::int64_t frame);
    /// From now on a FLAC that breaks off just ends there, as a WAV that is shorter than its header says does.
    void takeWhatIsThere() noexcept;

private:
    struct State;
    explicit AudioReader(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

/// Reads the whole file, or `frames` frames from `start`, into memory.
Result<Recording> readRecording(const std::filesystem::path& path, std::int64_t start = 0, std::int64_t frames = -1);

/// The channels that a mono use may take: the one asked for (from 1), or the first where all channels are alike.
/// @error OutOfRange where the channels differ and none was asked for; Usage where the one asked for is not there
Result<std::size_t> chooseChannel(const std::filesystem::path& path, int channelFromOne);

} // namespace gristle::core
