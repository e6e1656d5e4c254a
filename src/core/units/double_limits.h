#pragma once

namespace gristle::core {

/// Where what two performances are apart goes over from one to width, to loose, to a flam; ms. Styles differ: fast
/// muted riffs bear less than slow strummed chords.
struct DoubleLimits {
    double oneMs = 2.0, widthMs = 15.0, looseMs = 30.0;
    bool operator==(const DoubleLimits&) const = default;
};

} // namespace gristle::core
