#pragma once

#include "core/timing/onset_clues.h"
#include "core/timing/onset_pairs.h"
#include "core/timing/third_levels.h"

#include <array>
#include <span>
#include <vector>

namespace gristle::core {

/// One of two performances of a part, with all that rises in it.
struct HeardPart {
    std::span<const float> x;
    std::vector<OnsetCandidate> candidates;
    std::vector<Onset> onsets;
    std::vector<ThirdLevels> levels; ///< behind each onset

    HeardPart(std::span<const float> mono, double rateHz);
};

inline constexpr std::size_t kLackClues = 12;
/// What speaks for a note that one has and the other lacks, and against it, in the order of lack_weights.h.
using LackClues = std::array<double, kLackClues>;

/// How much louder the second is than the first, behind notes that both have: the median in all, and by thirds of an
/// octave (how guitars and amplifiers differ).
struct SoundsApart {
    double dB = 0.0;
    ThirdLevels log10{};
    SoundsApart turned() const; ///< of the first beside the second
};
SoundsApart soundsApart(const HeardPart& first, const HeardPart& second, const OnsetPairs& pairs);

/// Where one has a note and nothing of the other was paired with it: how sure the note is, whether something rises in
/// the other that was not sure enough for a note of its own, whether the partials that come with the note come in the
/// other, too, and whether they sound there as loud as other notes make expect.
/// @param onset  of the one that has it; laterS  by how much the other is later
LackClues lackClues(const HeardPart& has, std::size_t onset, const HeardPart& other, double laterS,
                    const SoundsApart& otherBeside, double rateHz);

/// That the other lacks it, 0 to 1; its curves are fitted by bench/fit-lacks to sampled and waveguide guitars of which
/// one lost a stroke, clean and driven, on one guitar and on two.
double chanceOfLack(const LackClues& clues);
inline constexpr double kSureLack = 0.5;

} // namespace gristle::core
