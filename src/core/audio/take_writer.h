#pragma once

#include "core/audio/audio_writer.h"

namespace gristle::core {

struct TakeFormat {
    int sampleRateHz = 48000;
    std::size_t channels = 1;
    SampleFormat format = SampleFormat::Int24;
    std::string description; ///< for the broadcast chunk, up to 256 bytes
    std::string when;        ///< ISO 8601, local: date, time and time reference of the broadcast chunk; empty: no chunk
};

/// Writes what is being recorded, straight into its file: after every sync() what came so far can be read again,
/// whatever becomes of this program. WAV with a broadcast chunk (EBU Tech 3285), which becomes RF64 past 4 GiB. One
/// thread at a time.
class TakeWriter {
public:
    /// @error WriteFailed, also where there is a file of that name
    static Result<TakeWriter> create(const std::filesystem::path& path, const TakeFormat& format);
    TakeWriter(TakeWriter&&) noexcept;
    TakeWriter& operator=(TakeWriter&&) noexcept;
    ~TakeWriter(); ///< closes the file, which stays

    /// Appends interleaved frames, full scale 1.0. Integers clip what is past full scale.
    /// @error WriteFailed where the disk is full: what fitted stays and is a whole file
    Outcome write(std::span<const float> interleaved);
    /// Brings the header up to what was written; the system has it then, the disk after forceToDisk() of this file,
    /// which may be called by another thread meanwhile. @error WriteFailed; the samples go on at their place
    Outcome sync();
    /// Closes the file and forces it to disk. @error WriteFailed; what came that far stays
    Outcome close();
    std::int64_t frames() const noexcept;

private:
    struct State;
    explicit TakeWriter(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

} // namespace gristle::core
