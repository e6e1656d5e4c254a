#pragma once

#include "core/measure/activity.h"
#include "core/measure/hum.h"
#include "core/units/result.h"

#include <functional>

namespace gristle::core {

/// Why there is no floor.
enum class NoRest {
    Sounds,  ///< something sounds all the time
    Silence, ///< what lies between the notes is digital silence, as a gate or an edit leaves it
    Short    ///< it rests, but for less than 0.3 s at a time
};

struct NoiseResult {
    std::optional<double> floorDbfs; ///< AES17, DC taken out, hum included; none where no stretch of 0.3 s rests
    NoRest why = NoRest::Sounds;     ///< where there is none
    double longestRestS = 0.0;       ///< where all are too short
    std::optional<double> snrDb;     ///< level while playing less the floor; none where nobody plays
    std::optional<Hum> hum;
    std::vector<Stretch> rests; ///< the stretches that the floor was taken from
    std::vector<bool> playing;  ///< for each hop of 10 ms
    /// There is a floor, and nothing stands out of it for 0.3 s.
    bool isNobodyPlaying() const;
};

/// Fetches frames [start, start + count) of the channel that the hops came from.
using SampleSource = std::function<Result<std::vector<float>>(std::int64_t start, std::int64_t count)>;

/// Noise of one channel: rests are found by level, read again (at most 30 s of them, longest first) and kept where no
/// string sounds in them, which needs under a tenth of the power in narrow lines besides the mains series. Where less
/// than half of what is not digital silence rests and nothing stands 10 dB out of it, that was no rest but playing.
Result<NoiseResult> analyseNoise(const HopTrack& track, const SampleSource& source, Mains mains);

} // namespace gristle::core
