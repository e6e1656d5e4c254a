#pragma once

#include "core/session/session_document.h"

namespace gristle::core {

/// A named stretch with its ends.
struct SectionSpan {
    std::string name;
    double fromS = 0.0, toS = 0.0;
    bool operator==(const SectionSpan&) const = default;
};
/// The sections of a song that lasts so long, those that begin after its end left out. The last one ends with it.
std::vector<SectionSpan> spansOf(const Song& song, double endS);
/// Where the last of its takes ends, seconds.
double endOf(const Song& song);

/// Begins a section at a bar, in the place of one that begins there. @error Usage without a name or below bar 1
Outcome addSection(Song& song, const std::string& name, double bar);
/// @param bar  where it begins; none: the only one of that name @error Usage where there is none, or several
Outcome removeSection(Song& song, const std::string& name, std::optional<double> bar);

} // namespace gristle::core
