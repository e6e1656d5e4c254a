#pragma once

#include "core/impulse/impulse_info.h"

namespace gristle::core {

/// What is done to an impulse, in this order.
struct ImpulseEdit {
    bool trim = false;         ///< to 1 ms before the arrival
    double lengthMs = 0.0;     ///< from the arrival, with a fade over its last third; 0: as long as it is
    bool minimumPhase = false; ///< as early as its magnitudes allow
    double lowCutHz = 0.0;     ///< 12 dB an octave; 0: none
    double highCutHz = 0.0;    ///< 12 dB an octave; 0: none
    double airDb = 0.0;        ///< a shelf from 9 kHz
    bool match = false;        ///< as loud (BS.1770, pink noise) as without it
    bool operator==(const ImpulseEdit&) const = default;
};

struct EditedImpulse {
    Recording impulse;
    double gainDb = 0.0;     ///< applied by matching
    double keptFromHz = 0.0; ///< from here up shortening changes the smoothed response by less than 1 dB; 0: everywhere
};

/// Edits all channels alike; what is trimmed is counted by the earliest arrival.
/// @error Usage where a value is out of range (5 ms to 20 s, 20 Hz to 0.45 of the rate, 12 dB of air); what
/// impulseInfo() gives
Result<EditedImpulse> editImpulse(const Recording& impulse, const ImpulseEdit& edit);

/// An impulse of several, edited: what a file on disk is made of.
struct ImpulseRecipe {
    std::vector<BlendPart> parts;
    bool align = false;
    ImpulseEdit edit;
};

} // namespace gristle::core
