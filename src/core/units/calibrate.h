#pragma once

#include "core/units/calibration.h"
#include "core/units/result.h"

#include <fmt/format.h>

namespace gristle::core {

inline constexpr double kTestToneDbfs = -20.0,
                        kTestToneHz = 220.0; ///< low enough for any voltmeter, off the mains series

struct VoltmeterAnswer {
    Calibration calibration;
    std::string arithmetic; ///< for people, in one sentence
};

/// The calibration from a voltmeter's RMS reading of a steady sine that stands at `dbfs` in the digital scale.
/// @error OutOfRange where the result is none that an interface has (-20 to +34 dBu): a wrong range, a loose cable, or
/// a meter set to DC
inline Result<VoltmeterAnswer> calibrateByVoltmeter(double voltsRms, double dbfs)
{
    if (!(voltsRms > 0.0) || !(dbfs > -70.0) || dbfs > 0.0)
        return Error{ErrorCode::OutOfRange, "calibration: there is nothing to reckon with",
                     "play the tone, read the voltmeter on AC, and type the volts"};
    const double dbu = voltsRmsToDbu(voltsRms), full = dbu - dbfs;
    std::string arithmetic = fmt::format(
        "{:.4g} V are {:+.1f} dBu; they stand at {:.1f} dBFS, so full scale is {:+.1f} dBu", voltsRms, dbu, dbfs, full);
    if (full < -20.0 || full > 34.0)
        return Error{ErrorCode::OutOfRange, "calibration: " + arithmetic + ", which no interface has",
                     "check the meter's range and that it is on AC, and the cable"};
    return VoltmeterAnswer{{full, false}, std::move(arithmetic)};
}

} // namespace gristle::core
