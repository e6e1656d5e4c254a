#pragma once

#include "core/impulse/placement.h"
#include "core/stereo/pan_law.h"
#include "core/units/calibration.h"

#include <cstdint>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>
#include <vector>

namespace gristle::core {

/// One recorded attempt at a layer: an immutable file in audio/.
struct Take {
    std::string file; ///< relative to the session's folder, inside it
    std::int64_t frames = 0;
    int sampleRateHz = 0;
    int channels = 1;
    int channel = 0;      ///< from 1: which one is used; 0 where all are alike
    std::string hash;     ///< XXH3-128 of the file, hexadecimal
    std::string recorded; ///< ISO 8601, local time
    std::string source;   ///< the name that it was brought in under
    Calibration input;
    std::vector<std::int64_t> gaps; ///< frames before which samples were lost while recording
    bool operator==(const Take&) const = default;
};

/// One performance wanted for a part, with its place in the stereo picture.
struct Layer {
    std::string name;
    double place = 0.0; ///< -100 left to 100 right
    double gainDb = 0.0;
    double earlierMs = 0.0; ///< that its takes are moved by, to meet other microphones; the files stay as they are
    bool isInverted = false;
    std::string guitar, pickup;
    std::string rig; ///< file of the rig version, relative to the folder; empty: dry
    std::vector<Take> takes;
    std::size_t chosen = 0; ///< the take that counts
    bool operator==(const Layer&) const = default;
    const Take* chosenTake() const { return chosen < takes.size() ? &takes[chosen] : nullptr; }
};

struct Part {
    std::string name;
    std::vector<Layer> layers;
    bool operator==(const Part&) const = default;
};

struct Song {
    std::string name;
    double tempoBpm = 120.0;
    std::string meter = "4/4";
    std::string tuning = "E standard";
    std::vector<Part> parts;
    bool operator==(const Song&) const = default;
    /// Quarter notes in a bar of the meter: 6/8 has 3.
    double quartersPerBar() const;
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
    Calibration interface; ///< of the first interface: what new takes get, and the output scale
    ReampPath reamp;
    std::vector<std::string> loadings; ///< set-ups between string and input, as values of the loading node
    CabPlan cab;                       ///< cabinet, room and microphones of the Cab bench
    std::vector<Song> songs;
    bool operator==(const SessionDocument&) const = default;
};

/// Where a layer stands in a document.
struct LayerPath {
    std::size_t song = 0, part = 0, layer = 0;
    bool operator==(const LayerPath&) const = default;
    auto operator<=>(const LayerPath&) const = default;
};

const Layer* findLayer(const SessionDocument& document, const LayerPath& path);
Layer* findLayer(SessionDocument& document, const LayerPath& path);
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
