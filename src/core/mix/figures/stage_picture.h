#pragma once

#include "core/measure/tuner.h"
#include "core/mix/figures/stage_run.h"

#include <array>
#include <optional>

namespace gristle::core {

/// What one stage does where it sits, at the level at which this take hits it.
struct StagePicture {
    double playingV = 0.0, peakV = 0.0; ///< RMS and highest size of what comes in over the stretch, volts

    // One period of a sine of 110 Hz at peakV once the stage has settled to it: a curve where only the moment counts, a
    // loop where the stage remembers.
    std::vector<std::array<double, 2>> transfer; ///< volts in, volts out; closed
    std::vector<double>
        lies; ///< share of the time that the take's signal is in each of equal parts from -peakV to peakV

    // What a filter would have to do to be nearest to the stage, by a noise of playingV.
    std::vector<double> hz, responseDb;
    /// Second to tenth harmonic of a sine of 220 Hz of playingV, dB against the first; -150 for none.
    std::array<double, 9> harmonicsDb{};

    // Over the stretch.
    static constexpr double kHopS = 0.01;
    /// Level behind the stage less that before it, in each hop; none where what comes in is 60 dB under its loudest.
    std::vector<std::optional<double>> gainDb;

    /// Levels by thirds of an octave before and behind the stage over the stretch, dBu; at least -150.
    struct Third {
        double hz, beforeDbu, afterDbu;
    };
    std::vector<Third> thirds;
    std::vector<PitchMoment> notes; ///< that come in, where one string sounds; from the stretch's start

    // After a click of peakV.
    static constexpr double kEchoHopS = 0.005;
    std::vector<double> echoDb; ///< highest size in each hop against the highest of all; at least -80
};

/// @param echoS  how long after the click
/// Cost: the chain up to the stage over the stretch, the stage over the stretch and some 2 s + echoS more.
/// @error Usage; as LayerSource; Cancelled
Result<StagePicture> stagePicture(const LayerRecipe& recipe, std::size_t stage, double echoS,
                                  const Progress& progress = {});

} // namespace gristle::core
