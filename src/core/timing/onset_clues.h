#pragma once

#include "core/timing/onset_place.h"

#include <array>
#include <span>
#include <vector>

namespace gristle::core {

/// What speaks for a note and against it at a place where something rises, in the order of the table that weighs it;
/// the last is how strongly it rises beside the strong ones, in octaves of the mean rise.
using OnsetClues = std::array<double, 15>;

struct OnsetCandidate {
    OnsetPlace place;
    OnsetClues clues{};
};

/// Every place where something rises, 20 ms apart at least, and what tells it from a note: how sharp it is, how much
/// louder it gets over 10, 30 and 60 ms and whether it lasts, how many bands rise over how long, how loud it is beside
/// the loudest, and what rises around it. In the order of time; about six a second, of which two are notes.
/// @return none under 2 kHz (0: nothing was read) or 0.1 s
std::vector<OnsetCandidate> onsetCandidates(std::span<const float> x, double rateHz);

/// The chance that a note begins there, 0 to 1; its curves are fitted by bench/fit-onsets to sampled, waveguide and
/// simulated guitars whose notes are known, clean, driven and with noise.
double chanceOfNote(const OnsetClues& clues);

} // namespace gristle::core
