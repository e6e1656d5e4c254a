#pragma once

#include "core/measure/activity.h"
#include "core/measure/hum.h"
#include "core/units/result.h"

#include <functional>

namespace gristle::core {

struct NoiseResult {
    std::optional<double> floorDbfs; ///< AES17, DC taken out, hum included; none where no stretch of 0.3 s rests
    std::optional<double> snrDb;     ///< level while playing less the floor
    std::optional<Hum> hum;
    std::vector<Stretch> rests; ///< the stretches that the floor was taken from
    std::vector<bool> playing;  ///< for each hop of 10 ms
};

/// Fetches frames [start, start + count) of the channel that the hops came from.
using SampleSource = std::function<Result<std::vector<float>>(std::int64_t start, std::int64_t count)>;

/// Noise of one channel: rests are found by level, read again (at most 30 s of them, longest first) and kept where no
/// string sounds in them, which needs under a tenth of the power in narrow lines besides the mains series.
Result<NoiseResult> analyseNoise(const HopTrack& track, const SampleSource& source, Mains mains);

} // namespace gristle::core
