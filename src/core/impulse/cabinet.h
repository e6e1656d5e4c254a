#pragma once

#include "core/units/result.h"

#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace gristle::core {

/// What is left of the cone's, the cap's and their cavity's ringing: a bell on what the coil does, minimum phase.
struct BreakUpMode {
    double hz, db, q;
};

/// A driver: a conical shell of concentric rings around a coil, and a cap. Below its break-up it moves as one; above it
/// its ring modes turn parts of it against each other. Sources and what is left out: docs/loudspeaker.md.
struct Cone {
    double radiusM = 0.13;     ///< of the radiating part, half of the surround with it
    double depthM = 0.028;     ///< from the rim's plane to the coil
    double capRadiusM = 0.03;  ///< the innermost part, as wide as the coil
    double capHeightM = 0.018; ///< of its dome
    double breakUpHz = 1750.0; ///< where the shell no longer moves as one; 0: a rigid flat disc
    double bendingHz = 560.0;  ///< of its first ring mode, if it were flat
    double modeQ = 1.85;       ///< of the ring modes
    double neckHz = 5700.0;    ///< above, the joint of coil and cone gives way: cone and cap stay behind
    double neckQ = 1.2;
    double coilShare = 0.15;      ///< of the moving mass that is coil and cap
    double inductanceHz = 4700.0; ///< from there the coil takes less current, 6 dB an octave
    double resonanceHz = 95.0;    ///< in its cabinet
    double resonanceQ = 1.0;
    double splDb = 98.0;            ///< at 1 m on its axis with 2.83 V, where it is flat
    std::vector<BreakUpMode> modes; ///< none: a smooth cone
};

/// A box with one, two or four drivers, and a floor and a wall. Sizes in metres.
struct Cabinet {
    Cone cone;
    int drivers = 1;
    double spacingM = 0.31; ///< from one driver's centre to the next
    double widthM = 0.50, heightM = 0.45, depthM = 0.28;
    bool isOpenBack = false;
};

struct CabinetKind {
    std::string key, title, about;
    Cabinet cabinet;
};

/// Named by what they are: "one-open", "four-closed".
std::span<const CabinetKind> cabinetKinds();
/// @error Usage where there is none, naming those that there are
Result<Cabinet> cabinetOf(std::string_view key);

/// What is around it. The reverberation is statistical (Sabine's formula), the two reflections are images.
struct Room {
    double floorM = 0.45;      ///< from the axis of the driver down; 0: no floor
    double floorReturns = 0.6; ///< of the pressure, at low frequency
    double wallM = 1.2;        ///< from the cabinet's back to the wall behind it; 0: none
    double wallReturns = 0.7;
    double volumeM3 = 45.0;
    double reverberationS = 0.35; ///< falls by 60 dB; 0: none
    double noiseDbA = 32.0;       ///< of the quiet room
    bool operator==(const Room&) const = default;
};

} // namespace gristle::core
