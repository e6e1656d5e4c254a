#pragma once

#include "core/units/result.h"

#include <cstdint>
#include <filesystem>
#include <optional>

namespace gristle::core {

/// What the head of an audio file says of itself.
struct SoundHead {
    bool isKnown = false;                   ///< begins as one of the containers that are read
    std::optional<std::int64_t> dataBytes;  ///< that the sample data is said to have; none where that is left open
    std::optional<std::int64_t> dataOffset; ///< where in the file it begins
    bool contradictsItself = false; ///< a WAV: its bits a sample, bytes a frame and bytes a second do not go together
};

/// Reads the head: RIFF, RIFX, RF64 (EBU Tech 3306), WAVE64, AIFF and AIFC; of a FLAC only that it is one. A tag before
/// the file (ID3) is passed over. @error FileUnreadable where the disk fails while it is read
Result<SoundHead> readSoundHead(const std::filesystem::path& path);

} // namespace gristle::core
