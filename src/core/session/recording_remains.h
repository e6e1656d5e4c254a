#pragma once

#include "core/session/recorded_take.h"

namespace gristle::core {

/// What there is of a recording that is to become a take.
struct Remains {
    enum class Kind { Nothing, Whole, LongerThanItSays, BrokenHeader } kind = Kind::Nothing;
    std::int64_t dataOffset = 0; ///< of the two last kinds
    SampleLayout layout;
    std::int64_t frames = 0;
};

/// Looks at a recording: its header, and how long the file is. @error FileUnreadable, also where the disk fails;
/// BadDocument where the header is damaged and the note does not say how the samples lie
Result<Remains> lookAt(const std::filesystem::path& recording, const RecordingNote& note);

/// Writes all samples of a recording, found by their layout, into a new file beside `to`; where it is. What is no
/// number becomes silence. @error as TakeWriter; FileUnreadable; then no file is left
Result<std::filesystem::path> copySamples(const std::filesystem::path& recording, const Remains& remains,
                                          const std::filesystem::path& to, const RecordingNote& note);

} // namespace gristle::core
