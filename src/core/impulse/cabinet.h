#pragma once

#include "core/units/result.h"

#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace gristle::core {

/// A way in which the cone itself rings: a bell on what the coil does, minimum phase.
struct BreakUpMode {
    double hz, db, q;
};

/// A driver: a flat radiator of concentric rings. A ring follows the coil up to a frequency that rises inwards, with a
/// resonance there; so the radiating part shrinks as frequency rises. Sources and what is left out:
/// docs/loudspeaker.md.
struct Cone {
    double radiusM = 0.13;        ///< of the radiating part, half of the surround with it
    double capRadiusM = 0.03;     ///< the innermost part, as wide as the coil
    double breakUpHz = 1300.0;    ///< the outermost ring leaves; 0: rigid at all frequencies
    double breakUpSlope = 0.8;    ///< a ring of radius b leaves at breakUpHz (radius / b)^slope
    double breakUpQ = 1.1;        ///< of each ring's leaving
    double coilShare = 0.25;      ///< of the moving mass that is coil and cap
    double inductanceHz = 5000.0; ///< from there the coil takes less current, 6 dB an octave
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
