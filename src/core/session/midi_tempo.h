#pragma once

#include "core/units/bar_grid.h"
#include "core/units/result.h"

#include <filesystem>
#include <span>

namespace gristle::core {

/// Tempo and meter of a song as a standard MIDI file gives them.
struct TempoMap {
    double bpm = 120.0;
    std::string meter = "4/4";
    std::vector<TempoChange> tempos; ///< after the beginning
    std::vector<MeterChange> meters;
    struct Marker {
        double quarter = 0.0;
        std::string name;
        bool operator==(const Marker&) const = default;
    };
    std::vector<Marker> markers; ///< in order of time; of several at one place the last
    bool operator==(const TempoMap&) const = default;
};

/// Reads set-tempo, time-signature and marker events of all tracks; notes and all else are passed over. Where nothing
/// is said, 120 quarter notes a minute and 4/4. Source: MIDI 1.0, Standard MIDI Files 1.0 (RP-001).
/// @error BadDocument where it is none or breaks off; Unsupported where its time is in seconds (SMPTE); OutOfRange
/// where a tempo is not within 20 to 400. What is more than a million quarter notes away is left out
Result<TempoMap> parseTempoMap(std::span<const unsigned char> bytes, const std::string& name);
Result<TempoMap> readTempoMap(const std::filesystem::path& file); ///< @error besides, FileMissing and FileUnreadable

} // namespace gristle::core
