#pragma once

#include "core/units/result.h"

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace gristle::core {

/// With what a level was found: what changes it besides the gain. Free words; empty where not told.
struct PlayedWith {
    std::string tuning, strings, capo, pick, volume, tone, listenedOn;
    bool operator==(const PlayedWith&) const = default;
};

/// What is different now from before, in words: "tone 10, now 6". Only what was told both times.
std::vector<std::string> changedSince(const PlayedWith& before, const PlayedWith& now);

/// A gain that was right, or what was found with it.
struct GainEntry {
    std::string when; ///< ISO 8601, local
    std::string guitar, pickup, interface;
    int input = 1;    ///< from 1
    std::string gain; ///< what the knob showed, in the user's words: "34", "half past two"
    std::optional<double> averageDbfs, peakDbtp, floorDbfs;
    std::optional<double> brightnessDb; ///< of the part, as CaptureCheck has it
    PlayedWith with;
    std::string why; ///< where the level had moved: what the user says that it was
    bool operator==(const GainEntry&) const = default;
};

/// The gains of one person, over all sessions: guitar x pickup x interface. A file of lines, one JSON object each, that
/// is only appended to; lines that are broken are passed over. Cost of a look: the entries.
class GainBook {
public:
    explicit GainBook(std::filesystem::path file);
    /// @error WriteFailed, and then the book is as it was
    Outcome add(const GainEntry& entry);
    const std::vector<GainEntry>& entries() const noexcept { return entries_; }
    /// The newest entry for a guitar (case does not matter) and pickup on an interface's input; nothing where there is
    /// none.
    const GainEntry* last(const std::string& guitar, const std::string& pickup, const std::string& interface,
                          int input) const;

    static constexpr double kMovedDb = 2.0; ///< from which on a level has moved
    /// How far the average has moved since an entry of the same gain; nothing where the gain is another, either average
    /// is not known, or it is within kMovedDb.
    static std::optional<double> moved(const GainEntry& before, const GainEntry& now);

private:
    std::filesystem::path file_;
    std::vector<GainEntry> entries_;
};

/// "gain at 34, last time -18.2 dBFS (2026-11-26)"
std::string gainSentence(const GainEntry& entry);

} // namespace gristle::core
