#pragma once

#include "core/audio/audio_reader.h"

namespace gristle::core {

enum class SampleFormat { Int16, Int24, Float32 };

struct WriteOptions {
    int sampleRateHz = 48000;
    std::size_t channels = 1;
    SampleFormat format = SampleFormat::Int24;
    std::int64_t expectedFrames = 0;           ///< about: decides between WAV and RF64
    std::optional<std::int64_t> stampFrames{}; ///< time stamp of frame 0 as in AudioInfo; none: the file has none
};

/// Writes a WAV file (RF64 past 4 GiB) beside its place and puts it there when it is complete: a file that was begun
/// and not committed leaves nothing behind. The file does not say when it was written: the same sound gives the same
/// bytes. One thread at a time.
class AudioWriter {
public:
    /// @error WriteFailed where the folder is missing or not writable
    static Result<AudioWriter> create(const std::filesystem::path& path, const WriteOptions& options);

    AudioWriter(AudioWriter&&) noexcept;
    AudioWriter& operator=(AudioWriter&&) noexcept;
    ~AudioWriter(); ///< removes what was written unless commit() was called

    /// Appends frames, full scale 1.0. Integer formats clip what is past full scale and count it. Samples that are no
    /// numbers (NaN, infinite) are written as silence and counted.
    /// @error WriteFailed where the disk is full
    Outcome write(const AudioBuffer& block);
    /// Flushes to disk and moves the file to its place. @error WriteFailed, and then what was there stays
    Outcome commit();
    std::int64_t clippedSamples() const noexcept;
    std::int64_t notFiniteSamples() const noexcept;

private:
    struct State;
    explicit AudioWriter(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

/// Writes a whole recording.
Outcome writeRecording(const std::filesystem::path& path, const Recording& recording,
                       SampleFormat format = SampleFormat::Float32);

/// What becomes of a file that holds fewer samples than its header says.
enum class ShortFile { Refuse, TakeWhatIsThere };

/// A lossless copy that stands beside its place still, under a hidden name; its owner places or discards it.
struct CopyBeside {
    std::filesystem::path temporary;
    AudioInfo info;
};

/// Copies any readable audio file to WAV without loss: rate, depth and channels stay. Where all channels of the source
/// are alike, one is kept. @error as AudioReader::open and AudioWriter::create; Truncated where the file is short and
/// that was not asked for
Result<CopyBeside> copyBeside(const std::filesystem::path& from, const std::filesystem::path& to,
                              ShortFile ifShort = ShortFile::Refuse);
/// The same into its place.
Result<AudioInfo> copyLosslessly(const std::filesystem::path& from, const std::filesystem::path& to);
/// The mean of all channels as one of 32-bit float, beside its place. @error as copyBeside
Result<CopyBeside> meanBeside(const std::filesystem::path& from, const std::filesystem::path& to,
                              ShortFile ifShort = ShortFile::Refuse);

} // namespace gristle::core
