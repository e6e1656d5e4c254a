#pragma once

#include <algorithm>
#include <string>
#include <vector>

namespace gristle::core {

/// Where what two performances are apart goes over from one to width, to loose, to a flam; ms, each more than the one
/// before.
struct DoubleLimits {
    double oneMs = 2.0, widthMs = 15.0, looseMs = 30.0;
    bool areInOrder() const { return 0.0 < oneMs && oneMs < widthMs && widthMs < looseMs; }
    bool operator==(const DoubleLimits&) const = default;
};

/// Bounds by what is played: fast muted riffs bear less than slow strummed chords.
struct DoubleStyle {
    std::string name;
    DoubleLimits limits;
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const DoubleStyle&) const = default;
};

/// What a new session has; the first is that of a part that names none.
inline std::vector<DoubleStyle> usualDoubleStyles()
{
    return {{"usual", {}}, {"fast and muted", {1.5, 10.0, 20.0}}, {"slow and open", {3.0, 20.0, 40.0}}};
}

/// @param styles  one at least  @return the one of that name, else the first
inline const DoubleStyle& doubleStyle(const std::vector<DoubleStyle>& styles, const std::string& name)
{
    const auto at = std::ranges::find(styles, name, &DoubleStyle::name);
    return at == styles.end() ? styles.front() : *at;
}

} // namespace gristle::core
