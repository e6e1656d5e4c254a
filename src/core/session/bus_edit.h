#pragma once

#include "core/session/session_document.h"

#include <functional>

namespace gristle::core {

/// Whether every bus leads to the song's sum in the end. @error Usage where one feeds itself, with the way
Outcome checkBuses(const Song& song);

/// @error Usage where the name is empty or taken
Outcome addBus(Song& song, const std::string& name);
/// Everything that names it follows. @error Usage where there is no such bus, or the name is empty or taken
Outcome renameBus(Song& song, const std::string& name, const std::string& to);
/// What led into it leads where it led; what was sent to it is sent no more. @error Usage where there is no such bus
Outcome removeBus(Song& song, const std::string& name);
/// Changes a bus by `work`. @error Usage where there is no such bus, where one that it leads into is not there, or
/// where it would feed itself; then nothing is changed
Outcome changeBus(Song& song, const std::string& name, const std::function<void(Bus&)>& work);
/// Leads a layer into a bus, or straight into the song's sum where the name is empty. @error Usage where there is none
Outcome leadLayer(Song& song, Layer& layer, const std::string& bus);

/// Sends as the command line writes them: BUS or BUS:gain_db, dB from -60 to 60. @error Usage where one is none, or
/// names no bus of the song
Result<std::vector<Send>> parseSends(const Song& song, const std::vector<std::string>& texts);

/// How a song's layers are gathered.
enum class BusesBy {
    Part,      ///< a bus for each part
    Side,      ///< left, middle, right
    Amplifier, ///< one for each rig, across both sides
};
std::string nameOf(BusesBy by); ///< "part", "side", "amplifier"
std::optional<BusesBy> parseBusesBy(const std::string& name);
/// The name of the bus that a layer of a part would be gathered in: the part's, "left", or its rig's.
std::string gatheredIn(BusesBy by, const Part& part, const Layer& layer);
/// Leads every layer of the guitar into a bus of its kind, made where it is not there; backing and reference stay where
/// they are. @return how many buses were made
std::size_t makeBuses(Song& song, BusesBy by);

} // namespace gristle::core
