#pragma once

#include "core/impulse/sound_field.h"

#include <functional>
#include <span>
#include <string>
#include <string_view>

namespace gristle::core {

struct CurvePoint {
    double hz, db;
};

/// A microphone as a receiver of pressure and of its gradient: what it gives for a plane wave under theta is pressure
/// + (1 - pressure) cos theta, so that 1 hears all around, 0.5 to the front, 0 to both sides. The gradient rises near
/// a source (proximity effect) by itself.
struct Microphone {
    std::string key, title, about;
    double pressureShare = 0.5;
    double diaphragmM = 0.018;     ///< radius, its head with it; what comes from the side is averaged over it
    std::vector<CurvePoint> curve; ///< on its axis, far away; straight over the logarithm of frequency in between
    double selfNoiseDbA = 18.0;
    double mostSplDb = 140.0; ///< where it distorts: 1 %
    double sensitivityMvPa = 2.0;
    bool endangeredByPhantom = false; ///< a ribbon without its own amplifier
};

/// Kinds by what they do; tables of our own.
std::span<const Microphone> microphoneKinds();
/// @error Usage where there is none, naming those that there are
Result<Microphone> microphoneOf(std::string_view key);

/// Straight over the logarithm of frequency between its points, level beyond them; 0 without any.
double curveDb(std::span<const CurvePoint> curve, double hz);

/// Where it stands and looks. Behind the cabinet it looks forward.
struct MicrophonePlace {
    double distanceM = 0.03; ///< from the cloth; under 0: behind the cabinet's back
    double offsetM = 0.0;    ///< from the cone's centre, to the cabinet's near side
    double angleDeg = 0.0;   ///< turned in, towards the centre
    bool operator==(const MicrophonePlace&) const = default;
};

/// What it gives for a pressure field, but for its curve: 1 for a plane wave of 1 from the front. The gradient is a
/// difference over half a millimetre. @param axis  of length 1, from it to where it looks
std::complex<double> received(const Microphone& m, const std::function<std::complex<double>(const Place&)>& pressure,
                              const Place& at, const Place& axis, double waveNumber);

} // namespace gristle::core
