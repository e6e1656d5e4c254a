#include "core/units/musical_time.h"

#include "core/units/number_text.h"

namespace gristle::core {

namespace {

Error badTime(std::string_view text)
{
    return {ErrorCode::Usage, "time \"" + std::string(text) + "\": it is no duration",
            "write 433ms, 0.433s or a note value such as 1/8, 1/8d or 1/8t"};
}

} // namespace

MusicalTime MusicalTime::fromSeconds(double seconds)
{
    MusicalTime time;
    time.seconds_ = seconds;
    time.text_ = numberText(seconds * 1000.0) + "ms";
    return time;
}

Result<MusicalTime> MusicalTime::parse(std::string_view text)
{
    MusicalTime time;
    time.text_ = std::string(text);
    if (const auto slash = text.find('/'); slash != std::string_view::npos) {
        double factor = 1.0;
        std::string_view lower = text.substr(slash + 1);
        if (lower.ends_with('d')) factor = 1.5;
        if (lower.ends_with('t')) factor = 2.0 / 3.0;
        if (factor != 1.0) lower.remove_suffix(1);
        const auto upper = parseNumber(text.substr(0, slash));
        const auto denominator = parseNumber(lower);
        if (!upper || !denominator || *upper <= 0.0 || *denominator <= 0.0) return badTime(text);
        time.wholeNotes_ = factor * *upper / *denominator;
        return time;
    }
    double scale = 0.0;
    std::string_view number = text;
    if (text.ends_with("ms")) {
        scale = 1e-3;
        number.remove_suffix(2);
    } else if (text.ends_with('s')) {
        scale = 1.0;
        number.remove_suffix(1);
    }
    const auto value = parseNumber(number);
    if (scale == 0.0 || !value || *value <= 0.0) return badTime(text);
    time.seconds_ = *value * scale;
    return time;
}

} // namespace gristle::core
