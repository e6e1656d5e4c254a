#pragma once

#include "core/measure/noise.h"

#include <array>
#include <span>
#include <vector>

namespace gristle::core {

inline constexpr std::size_t kPeakClues = 8;

/// Whether peaks end at one level, as behind a clipper, whatever came after it: dither, a high-pass of up to 32 Hz, a
/// resampler, a soft knee.
struct HeldPeaks {
    /// Of the half waves at the ceiling and under it, how many there are (in bits, log2(1 + n)) and how sharp their
    /// corners; the order is that of clip_weights.h.
    std::array<double, kPeakClues> clues{};
    double chance = 0.0;      ///< that something holds them, by what each clue is worth
    double ceilingDbfs = 0.0; ///< where they end; behind a high-pass, where they would end without it
    double crestDb = 0.0;     ///< the ceiling over the RMS of the loudest 8 s
    std::size_t places = 0;   ///< stretches of 30 ms in these that reach it
    double firstS = 0.0;      ///< the first of them
    double placesShare = 0.0; ///< of all of these
    double corner = 0.0;      ///< that three in four of the half waves at the ceiling have: smooth ones 0.29, cut off 1
    /// Not where all of it stays at one level, unless it is cut off there: a tone does so by itself.
    bool isHeld() const { return chance > kSure && (placesShare < kStays || corner > kCutOff); }
    /// Held so hard that a driven amplifier is likelier than a clipped peak.
    bool isDriven() const { return isHeld() && crestDb < kDrivenCrestDb; }
    bool isClipped() const { return isHeld() && !isDriven(); }
    static constexpr double kSure = 0.85, kStays = 0.97, kCutOff = 0.45, kDrivenCrestDb = 5.0;
};

/// A part of a recording, its integral from 1.5 s before it on and that one's, each forgotten with 0.1 Hz and times
/// 2 pi: what undoes high-passes.
struct LoudStretch {
    double startS = 0.0;
    std::vector<float> x, once, twice; ///< all as long
};

/// The stretches that hold the highest peaks of one channel, 8 s at most.
/// @param blockPeaks  from LevelMeter  Cost: reads 1.5 s before each stretch, too.
Result<std::vector<LoudStretch>> loudestStretches(std::span<const float> blockPeaks, double rateHz,
                                                  const SampleSource& source);

/// A first-order high-pass is undone by adding its integral (the pole of a first-order high-pass, exactly), two of them
/// by that and the integral's, at the corners that make the ceiling sharpest. Then half waves and samples near the
/// ceiling are counted; what they are worth was fitted by bench/fit-clipping to guitars that were clipped and to ones
/// that were not. Cost: 8 s, some eighty times.
HeldPeaks heldPeaks(std::span<const LoudStretch> loudest, double rateHz);

} // namespace gristle::core
