#pragma once

#include "core/impulse/placement.h"
#include "core/stereo/pan_law.h"
#include "core/units/bar_grid.h"
#include "core/units/calibration.h"
#include "core/units/double_limits.h"

#include <cstdint>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>
#include <vector>

namespace gristle::core {

/// How a part is played, beyond its notes; what is true when a take is recorded travels with it.
struct PlayingNotes {
    std::string pick;         ///< "1.2 mm", "fingers"
    std::string cloth;        ///< where the damping cloth lies, empty: none
    int capo = 0;             ///< fret, 0: none
    std::string stringsSince; ///< date of the strings, ISO 8601, or words
    bool operator==(const PlayingNotes&) const = default;
};

/// What a layer's takes are. Only a DI has a rig; backing and reference are never judged as a guitar.
enum class LayerRole {
    Di,         ///< an instrument straight from its cable
    Microphone, ///< an amplifier as it was recorded
    Backing,    ///< the band, or one of it
    Reference   ///< something to compare with, in no mix
};

/// One recorded attempt at a layer: an immutable file in audio/.
struct Take {
    std::string file; ///< relative to the session's folder, inside it
    std::int64_t frames = 0;
    int sampleRateHz = 0;
    int channels = 1;
    int channel = 0;       ///< from 1: which one is used; 0 where all are alike, or where both sides are heard
    bool isStereo = false; ///< the first two channels are heard as two sides
    std::string hash;      ///< XXH3-128 of the file, hexadecimal
    std::string recorded;  ///< ISO 8601, local time
    std::string source;    ///< the name that it was brought in under
    Calibration input;
    std::vector<std::int64_t> gaps;        ///< frames before which samples were lost while recording
    double atS = 0.0;                      ///< where in the song its first frame is, seconds; below 0: before bar 1
    double spanFromS = 0.0, spanToS = 0.0; ///< of the song, what it was played for; empty: all of it
    PlayingNotes playing;
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const Take&) const = default;
    bool isPunch() const { return spanToS > spanFromS; }
    double endS() const { return atS + (sampleRateHz > 0 ? double(frames) / sampleRateHz : 0.0); }
};

/// A stretch of a layer, from where it begins in the song to where the next one does: the take that is heard there, and
/// by how much it is moved and retuned. All together are a recipe; the files stay as they are.
struct Piece {
    double fromS = 0.0;    ///< the first one begins with its take
    std::size_t take = 0;  ///< of the layer
    double laterMs = 0.0;  ///< that it is moved by; below 0: earlier
    double cents = 0.0;    ///< that it is retuned by, by resampling, about the middle of the piece
    double fadeMs = 10.0;  ///< equal power, around where it begins
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const Piece&) const = default;
};

/// A copy of a signal that goes into a bus besides.
struct Send {
    std::string to; ///< a bus of the song
    double gainDb = 0.0;
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const Send&) const = default;
};

/// Where signals meet before the song's sum: a stereo sum with a rig, a gain and sends of its own.
struct Bus {
    std::string name;
    std::string rig; ///< file of the rig version, relative to the folder; empty: none
    double gainDb = 0.0;
    std::string into; ///< the bus that it goes into; empty: the song
    std::vector<Send> sends{};
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const Bus&) const = default;
};

/// A stretch of a song with a name, up to where the next one begins.
struct Section {
    std::string name;
    double quarter = 0.0;  ///< where it begins, quarter notes from bar 1
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const Section&) const = default;
};

/// One performance wanted for a part, with its place in the stereo picture.
struct Layer {
    std::string name;
    LayerRole role = LayerRole::Di;
    std::string source{}; ///< what is heard: of sourcesOf(role); empty: the first of them
    double place = 0.0;   ///< -100 left to 100 right
    double gainDb = 0.0;
    double earlierMs = 0.0; ///< that its takes are moved by, to meet other microphones; the files stay as they are
    bool isInverted = false;
    std::string guitar, pickup;
    std::string rig;   ///< file of the rig version, relative to the folder; empty: dry
    std::string bus{}; ///< of the song, that it goes into; empty: the song's sum
    std::vector<Send> sends{};
    std::vector<Take> takes;
    std::size_t chosen = 0;    ///< the take that counts
    std::vector<Piece> pieces; ///< in order of time; empty: the take that counts, as it is
    std::string keptPair{};    ///< fingerprint of this and another layer that somebody let be as they are
    std::string unknown{};     ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const Layer&) const = default;
    const Take* chosenTake() const { return chosen < takes.size() ? &takes[chosen] : nullptr; }
};

struct Part {
    std::string name;
    std::vector<Layer> layers{};
    PlayingNotes playing{};    ///< that the next take gets
    std::string doubleStyle{}; ///< of the session's; empty: the first
    std::string unknown{};     ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const Part&) const = default;
};

struct Song {
    std::string name;
    double tempoBpm = 120.0;
    std::string meter = "4/4";
    std::string tuning = "E standard";
    std::vector<Part> parts{};
    std::vector<TempoChange> tempos{}; ///< after the beginning
    std::vector<MeterChange> meters{};
    double referenceHz = 440.0;      ///< of A4
    std::vector<Section> sections{}; ///< in order of time
    std::vector<Bus> buses{};
    std::string rig{};     ///< over the song's sum; empty: none
    double gainDb = 0.0;   ///< after it
    double stampS = 0.0;   ///< time stamp of bar 1 in files of other programs, seconds
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const Song&) const = default;
    /// Quarter notes in a bar of the meter: 6/8 has 3.
    double quartersPerBar() const { return quartersOfMeter(meter); }
    BarGrid grid() const { return {tempoBpm, meter, tempos, meters}; }
};

/// What stands between the interface's output and the amplifier's input.
struct ReampPath {
    Calibration output{12.0, true}; ///< dBu of a full-scale sine at the output
    double boxDb = 0.0;             ///< what a reamp box adds, mostly below 0
    bool operator==(const ReampPath&) const = default;
};

/// All that a session knows besides its audio, impulses and rigs. A value: copy it, change it, save it.
struct SessionDocument {
    std::string name = "Session";
    int sampleRateHz = 0; ///< of the first take; 0 before there is one
    double referenceDbfs = -18.0;
    std::string targetSchool = "average"; ///< or "peak"
    PanLaw law = PanLaw::Minus3;
    std::vector<DoubleStyle> doubleStyles = usualDoubleStyles(); ///< what two performances are heard as; one at least
    Calibration interface; ///< of the first interface: what new takes get, and the output scale
    ReampPath reamp;
    std::vector<std::string> loadings; ///< set-ups between string and input, as values of the loading node
    CabPlan cab;                       ///< cabinet, room and microphones of the Cab bench
    std::vector<Song> songs;
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const SessionDocument&) const = default;
};

/// What is heard of a layer: its pieces; of a take that was played for some bars, those. Empty: the take that counts,
/// as it is.
std::vector<Piece> heardPieces(const Layer& layer);

/// Where a layer stands in a document.
struct LayerPath {
    std::size_t song = 0, part = 0, layer = 0;
    bool operator==(const LayerPath&) const = default;
    auto operator<=>(const LayerPath&) const = default;
};

const Layer* findLayer(const SessionDocument& document, const LayerPath& path);
Layer* findLayer(SessionDocument& document, const LayerPath& path);
std::vector<std::string> allRigs(const SessionDocument& document); ///< of layers, buses and songs, each once
std::vector<LayerPath> allLayers(const SessionDocument& document);

/// The document as docs/schema/session.json describes it.
nlohmann::ordered_json sessionToJson(const SessionDocument& document);
nlohmann::ordered_json sessionHeadToJson(const SessionDocument& document); ///< all but the songs
nlohmann::ordered_json songToJson(const Song& song);
/// @error BadDocument (broken, or a file reference that leaves the folder), NewerVersion, OutOfRange
Result<SessionDocument> sessionFromJson(const nlohmann::ordered_json& json);

/// True for a relative path without "..": one that stays in the folder it is taken from.
bool staysInside(const std::string& relative);

} // namespace gristle::core
