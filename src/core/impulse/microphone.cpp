#include "core/impulse/microphone.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kDifferenceM = 0.0005;

/// Tables and figures of our own, of the size that such microphones have; docs/loudspeaker.md.
std::vector<Microphone> kinds()
{
    return {{"coil-presence",
             "moving coil, presence",
             "moving coil, front, early presence peak",
             0.5,
             0.018,
             {{40, -12},
              {80, -6},
              {150, -2.5},
              {300, -0.5},
              {1000, 0},
              {2500, 2},
              {4500, 5},
              {6500, 4},
              {9000, 2.5},
              {12000, 0},
              {16000, -7},
              {20000, -16}},
             18.0,
             150.0,
             1.8,
             false},
            {"coil-level",
             "moving coil, level",
             "moving coil, front, wide and level",
             0.5,
             0.020,
             {{40, -5},
              {80, -2},
              {200, 0},
              {1000, 0},
              {3000, 0.5},
              {5000, 2},
              {8000, 1},
              {12000, -2},
              {16000, -6},
              {20000, -13}},
             19.0,
             148.0,
             1.6,
             false},
            {"ribbon",
             "ribbon",
             "ribbon, both sides, falling top",
             0.0,
             0.004,
             {{30, -3}, {60, 0}, {1000, 0}, {3000, 0}, {6000, -1.5}, {10000, -4}, {15000, -8}, {20000, -13}},
             17.0,
             135.0,
             1.2,
             true},
            {"condenser",
             "condenser, wide",
             "condenser, front, wide diaphragm",
             0.5,
             0.018,
             {{30, -2}, {80, 0}, {1000, 0}, {4000, 0.5}, {8000, 3}, {12000, 3.5}, {16000, 1}, {20000, -4}},
             8.0,
             138.0,
             20.0,
             false},
            {"condenser-slim",
             "condenser, slim",
             "condenser, front, slim and even",
             0.5,
             0.018,
             {{30, -3}, {80, 0}, {1000, 0}, {6000, 0.5}, {10000, 1.5}, {16000, 0.5}, {20000, -2}},
             14.0,
             140.0,
             12.0,
             false},
            {"pressure",
             "pressure, even",
             "condenser, all around, even",
             1.0,
             0.004,
             {{20, 0}, {1000, 0}, {10000, 0.3}, {20000, 0}},
             20.0,
             136.0,
             10.0,
             false}};
}

} // namespace

std::span<const Microphone> microphoneKinds()
{
    static const auto all = kinds();
    return all;
}

Result<Microphone> microphoneOf(std::string_view key)
{
    const auto all = microphoneKinds();
    const auto at = std::ranges::find(all, key, &Microphone::key);
    if (at != all.end()) return *at;
    std::string names;
    for (const Microphone& m : all) names += (names.empty() ? "" : ", ") + m.key;
    return Error{ErrorCode::Usage, "microphone: there is none called '" + std::string(key) + "'", "choose of " + names};
}

double curveDb(std::span<const CurvePoint> curve, double hz)
{
    if (curve.empty()) return 0.0;
    const auto next = std::ranges::lower_bound(curve, hz, {}, &CurvePoint::hz);
    if (next == curve.begin()) return curve.front().db;
    if (next == curve.end()) return curve.back().db;
    const CurvePoint &a = *(next - 1), &b = *next;
    return a.db + (b.db - a.db) * std::log(hz / a.hz) / std::log(b.hz / a.hz);
}

std::complex<double> received(const Microphone& m, const std::function<std::complex<double>(const Place&)>& pressure,
                              const Place& at, const Place& axis, double waveNumber)
{
    const auto moved = [&](double by) {
        return pressure({at.x + by * axis.x, at.y + by * axis.y, at.z + by * axis.z});
    };
    // The mean of both stands for the pressure, so that one that hears everything needs no third place.
    const auto ahead = moved(0.5 * kDifferenceM), behind = moved(-0.5 * kDifferenceM);
    const auto gradient = (ahead - behind) / (std::complex<double>(0.0, waveNumber) * kDifferenceM);
    return m.pressureShare * 0.5 * (ahead + behind) + (1.0 - m.pressureShare) * gradient;
}

} // namespace gristle::core
