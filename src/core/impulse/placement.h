#pragma once

#include "core/audio/audio_buffer.h"
#include "core/impulse/microphone.h"
#include "core/units/progress.h"

#include <span>
#include <vector>

namespace gristle::core {

/// One microphone before a cabinet, as a row of a table has it.
struct PlacedMicrophone {
    std::string kind = "coil-presence"; ///< key of microphoneKinds()
    MicrophonePlace place;
    bool invert = false;
    double gainDb = 0.0;
    double delayMs = 0.0;  ///< later, by hand
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const PlacedMicrophone&) const = default;
};

/// Everything that a response is made of. An estimate: docs/loudspeaker.md says what it leaves out.
struct Setting {
    Cabinet cabinet;
    Room room;
};

/// What stands in the room, as a session keeps it.
struct CabPlan {
    std::string cabinet = "one-closed"; ///< key of cabinetKinds()
    Room room;
    std::vector<PlacedMicrophone> microphones{PlacedMicrophone{}};
    double watts = 5.0;  ///< that the amplifier gives, for sound pressures
    double spillM = 1.0; ///< to a second amplifier beside it
    bool operator==(const CabPlan&) const = default;
};
/// @error Usage where the cabinet is unknown
Result<Setting> settingOf(const CabPlan& plan);

/// @error Usage where a kind is unknown, or a place is out of range: 5 mm to 4 m before the cloth or behind the back,
/// 2 m to the side, 90 degrees, 100 ms
Outcome checkPlaced(const PlacedMicrophone& m);

/// What the microphone gives over the frequency, without its row's gain, polarity and delay and without the room's
/// reverberation; 1 is 1 m before a flat driver.
std::complex<double> responseAt(const Setting& setting, const Microphone& microphone, const MicrophonePlace& place,
                                double hz);

/// The shortest way from the cone to the microphone, behind an open back from there, m.
double travelM(const Setting& setting, const MicrophonePlace& place);

/// Its impulse response, with its travel time, its row's gain, polarity and delay, floor, wall and reverberation.
/// @error as checkPlaced(); Cancelled
Result<Recording> placementImpulse(const Setting& setting, const PlacedMicrophone& m, int rateHz, double lengthS,
                                   const Progress& progress = {});

/// Which way a map goes.
enum class MapLine { Offset, Distance, Angle };

/// Level over frequency against position along one line through a place.
struct PlacementMap {
    MapLine line = MapLine::Offset;
    std::vector<double> positions; ///< m or degrees
    std::vector<double> hz;
    std::vector<float> db; ///< a row of hz.size() for each position, against its own mean from 200 Hz to 2 kHz
};
/// Every position is as loud, so that the map shows tone. `positions` evenly from `from` to `to` (distances by equal
/// ratios), `bands` a twelfth of an octave or so apart.
Result<PlacementMap> placementMap(const Setting& setting, const PlacedMicrophone& m, MapLine line, double from,
                                  double to, std::size_t positions, std::size_t bands, const Progress& progress = {});

/// What reaches a microphone in dB SPL (A-weighted power of 80 Hz to 8 kHz, even in thirds of an octave) where the
/// amplifier gives `watts` into 8 ohm. An estimate.
double soundPressureDb(const Setting& setting, const MicrophonePlace& place, double watts);

/// Two amplifiers side by side, a microphone before each.
struct Spill {
    double spillDb = 0.0;  ///< the other amplifier over the own one, 100 Hz to 5 kHz
    double ratio = 0.0;    ///< of the distances to the other and to the own one
    double ruleDb = 0.0;   ///< what three times the distance would give this microphone
    double rippleDb = 0.0; ///< peak to dip that the sum of both microphones can show
    double neededM = 0.0;  ///< between the amplifiers, for the least that the rule wants (-9.5 dB)
};
Spill spillBetween(const Setting& setting, const PlacedMicrophone& m, double apartM);

} // namespace gristle::core
