#pragma once

#include "core/units/progress.h"
#include "core/units/result.h"

#include <array>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace gristle::core {

/// What a list of impulses shows of one file.
struct ImpulseCard {
    static constexpr std::size_t kPoints = 52; ///< sixths of an octave from 40 Hz on
    static double hzOf(std::size_t point) noexcept;

    std::string file; ///< relative to its folder, slashes
    std::uint64_t bytes = 0;
    std::int64_t changed = 0; ///< time of the last change as the system counts
    std::string why;          ///< it is none; empty: it is one, and what follows is told
    std::string hash;         ///< of its samples, without silence before and after: duplicates have the same
    int rateHz = 0, channels = 0;
    double seconds = 0.0;            ///< length
    double energy90Ms = 0.0;         ///< from the arrival until nine tenths of the energy have come
    std::array<float, kPoints> db{}; ///< of its first channel, 0 at the mean of 200 Hz to 2 kHz; sixths of an octave
    bool isImpulse() const noexcept { return why.empty(); }
    bool operator==(const ImpulseCard&) const = default;
};

/// Reads one file. Cost: reading it, one transform. @error none: what is wrong stands in `why`
ImpulseCard readCard(const std::filesystem::path& folder, const std::string& file);

/// The audio files in a folder and what lies in it, in the order of their names. Links are not followed out of it.
/// @error FileMissing where there is no such folder; Cancelled; Unsupported where it holds over 100,000
Result<std::vector<std::string>> impulseFilesIn(const std::filesystem::path& folder, const Progress& progress = {});

/// Cards of a folder that were read before: one line of JSON each. What is broken is left out.
std::vector<ImpulseCard> readShelf(const std::filesystem::path& cache);
/// @error WriteFailed
Outcome writeShelf(const std::filesystem::path& cache, const std::vector<ImpulseCard>& cards);

/// All cards of a folder: those of `known` whose file has the same size and time, the others read, on two threads.
/// @param told  is called with parts of what was read while it goes on, on the calling thread
/// @error as impulseFilesIn()
Result<std::vector<ImpulseCard>> lookThrough(const std::filesystem::path& folder, std::vector<ImpulseCard> known,
                                             const std::function<void(const std::vector<ImpulseCard>&)>& told,
                                             const Progress& progress = {});

/// True where all words stand in the name or the tags, whatever their case.
bool matches(const ImpulseCard& card, const std::vector<std::string>& tags, const std::string& words);

/// Indices of cards with the same samples as an earlier one.
std::vector<std::size_t> duplicatesIn(const std::vector<ImpulseCard>& cards);

} // namespace gristle::core
