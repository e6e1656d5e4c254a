#pragma once

#include "core/advice/finding.h"
#include "core/measure/measure_file.h"

namespace gristle::core {

/// Where a gate that listens to a DI stands between its noise and its softest note. All in dBFS (AES17).
struct GateAdvice {
    double noiseDbfs = 0.0;              ///< the floor at rest
    double softestDbfs = 0.0;            ///< the softest of the notes: the fifth percentile of the readings' peaks
    std::optional<double> thresholdDbfs; ///< half way between both, with what each needs; none where there is no room
};

/// @param hysteresisDb  of the gate
/// @return  none where nobody rests, nothing is played, or the measurement was made without its picture
std::optional<GateAdvice> gateAdvice(const ChannelMeasurement& channel, double hysteresisDb);

/// rig.gate: where the threshold stands against it.
Finding gateFinding(const GateAdvice& advice, double thresholdDbfs, const std::string& subject);

} // namespace gristle::core
