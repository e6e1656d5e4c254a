#pragma once

#include "core/mix/render/layer_source.h"
#include "core/units/progress.h"

#include <map>
#include <mutex>
#include <optional>
#include <string>

namespace gristle::core {

/// Where one point of a rig ends upwards and downwards: what comes in, or what comes out of a stage.
struct StageLimit {
    /// The level of a held sine of 220 Hz there from which on the stage bends or holds it (findCeiling); of what comes
    /// in, full scale. None where it goes on to +40 dBu.
    std::optional<double> ceilingDbu;
    /// How much louder the playing may come into the stage until its highest peak reaches the ceiling; below 0 it is so
    /// much into it.
    std::optional<double> roomDb;
    /// RMS of the noise while somebody plays, where gates are open and compressors and amplifiers do what they do then.
    std::optional<double> noiseDbu;
};

struct RigLimits {
    std::vector<StageLimit> stages; ///< of the outermost chain; the first is what comes in
    double outputCeilingDbu = 0.0;  ///< full scale of what is written
};

/// A stage's ceiling, level at its input and at its output, dBu of a sine.
struct Ceiling {
    double inDbu, outDbu;
};
/// The level from which on a sine of 220 Hz, held for 0.2 s at each of rising levels from -59 to +40 dBu, comes out
/// with a tenth (-20 dB) of harmonics; or, where a stage does not bend but holds, the level that it does not pass: the
/// last 12 dB of input add less than 0.2 dB, and the ceiling is reached where its rise before would meet it. To half a
/// decibel. None where neither happens.
/// Cost: 7 s of playing the stage. @error as CompiledRig; Cancelled
Result<std::optional<Ceiling>> findCeiling(const RigNode& node, const CompileOptions& options,
                                           const Progress& progress = {});

/// Ceilings that were found, by what a stage is and where it plays: a control that moves changes one stage of a rig. Of
/// stages that read no files. Any thread; keeps some hundreds.
class KnownCeilings {
public:
    /// As findCeiling, which is asked where the stage is not known yet.
    Result<std::optional<Ceiling>> find(const RigNode& node, const CompileOptions& options,
                                        const Progress& progress = {});

private:
    std::mutex mutex_;
    std::map<std::string, std::optional<Ceiling>> found_;
};

/// Ceilings and noise of all stages. Noise while playing is what the rig adds up from a second helping of the noise at
/// rest: played with it and without it, the difference is as loud as the noise that is in the take already.
/// @param recipe  its startS..endS is the stretch that is played, at most 20 s of it
/// @param restFromS, restToS  a stretch in which nobody plays; none where they are equal
/// Cost: the chain over the stretch twice, and findCeiling for each stage that bends or whose gain follows the level,
/// where `known` does not know it.
/// @error as LayerSource; Cancelled
Result<RigLimits> rigLimits(const LayerRecipe& recipe, double restFromS, double restToS, KnownCeilings& known,
                            const Progress& progress = {});

} // namespace gristle::core
