#pragma once

#include "core/rig/rig_document.h"

namespace gristle::core {

/// What has to stand before a rig so that another DI hits it as the one did that it was dialled in on.
struct LevelTransfer {
    double trimDb = 0.0;  ///< between their average levels in volts, by both calibrations
    bool assumed = false; ///< one of the calibrations is an assumption
    /// What makes the one's colour of the other's: the difference of their octaves without what changes the level, at
    /// most kMostPickupDb each; none in bands 60 dB under the whole. Where a spectrum is missing, none at all.
    std::optional<Octaves> pickupDb;
    double mostPickupDb() const; ///< the largest size

    static constexpr double kMostPickupDb = 9.0;
};
LevelTransfer levelTransfer(const DiStamp& was, const DiStamp& now);

/// The stages that do it, to put first: a gain rounded to 0.1 dB, and a graphic equaliser.
RigNode trimStage(const LevelTransfer& transfer);
RigNode pickupStage(const LevelTransfer& transfer); ///< where pickupDb is there

} // namespace gristle::core
