#pragma once

#include "core/units/result.h"

#include <string>
#include <string_view>

namespace gristle::core {

/// A duration as the user wrote it: "433ms", "0.433s" or a note value ("1/4", "1/8d", "1/8t").
/// A note value needs a tempo to become seconds. Tempo counts quarter notes in every meter.
class MusicalTime {
public:
    static MusicalTime fromSeconds(double seconds);
    /// @error Usage where the text is none of the forms above or its duration is not above 0
    static Result<MusicalTime> parse(std::string_view text);

    bool isNoteValue() const noexcept { return wholeNotes_ > 0.0; }
    /// @param tempoBpm  quarter notes a minute, used by note values only
    double seconds(double tempoBpm) const noexcept
    {
        return isNoteValue() ? wholeNotes_ * 4.0 * 60.0 / tempoBpm : seconds_;
    }
    const std::string& text() const noexcept { return text_; }
    bool operator==(const MusicalTime&) const = default;

private:
    std::string text_ = "0ms";
    double seconds_ = 0.0;
    double wholeNotes_ = 0.0;
};

} // namespace gristle::core
