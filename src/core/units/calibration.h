#pragma once

#include "core/units/decibels.h"

namespace gristle::core {

/// 0 dBu is the voltage of 1 mW in 600 ohms: sqrt(0.6) V RMS. Source: IEC 60268-2; DESIGN.md rounds to 0.7746.
inline constexpr double kDbuVoltsRms = 0.7746;

/// How an interface's digital scale stands to volts. `dbuAtFullScale` is the level of a full-scale sine in dBu.
struct Calibration {
    double dbuAtFullScale = 12.0;
    bool assumed = true; ///< true until somebody calibrated it; screens then call volts an assumption

    /// The peak voltage of sample value 1.0: 0.7746 sqrt(2) 10^(dBu/20).
    double fullScaleVolts() const noexcept { return kDbuVoltsRms * std::sqrt(2.0) * dbToAmplitude(dbuAtFullScale); }
    /// How far volts may be off. Assumed: instrument inputs and line outputs are built to clip between about +6 and +18
    /// dBu, so half of that. Calibrated: a hand meter of 2 % and its last digit.
    double doubtDb() const noexcept { return assumed ? 6.0 : 0.3; }
    bool operator==(const Calibration&) const = default;
};

inline double voltsRmsToDbu(double volts) noexcept { return amplitudeToDb(volts / kDbuVoltsRms); }

} // namespace gristle::core
