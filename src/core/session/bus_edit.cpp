#include "core/session/bus_edit.h"

#include "core/session/layer_role.h"
#include "core/units/number_text.h"
#include "core/units/text.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>

namespace gristle::core {

namespace {

auto find(auto& song, const std::string& name) { return std::ranges::find(song.buses, name, &Bus::name); }

Error noBus(const std::string& name)
{
    return {ErrorCode::Usage, fmt::format("bus \"{}\": there is no such bus in this song", name),
            "see session info, or add it first"};
}

Result<std::string> nameFor(const Song& song, const std::string& wanted)
{
    std::string name = validText(wanted);
    if (name.find_first_not_of(' ') == std::string::npos)
        return Error{ErrorCode::Usage, "a bus without a name", "give it one"};
    if (find(song, name) != song.buses.end())
        return Error{ErrorCode::Usage, fmt::format("there is a bus \"{}\" already", name), "choose another name"};
    return name;
}

/// Everything in a song that names a bus.
template<typename Work> void eachName(Song& song, const Work& work)
{
    for (Bus& bus : song.buses) work(bus.into);
    for (Part& part : song.parts)
        for (Layer& layer : part.layers) work(layer.bus);
}
template<typename Work> void eachSends(Song& song, const Work& work)
{
    for (Bus& bus : song.buses) work(bus.sends);
    for (Part& part : song.parts)
        for (Layer& layer : part.layers) work(layer.sends);
}

std::string joined(const std::vector<std::string>& way)
{
    std::string out;
    for (const auto& name : way) out += (out.empty() ? "" : " > ") + name;
    return out;
}

} // namespace

Outcome checkBuses(const Song& song)
{
    std::vector<std::string> way;
    std::vector<const Bus*> done;
    const auto visit = [&](const auto& self, const std::string& name) -> Outcome {
        const auto bus = find(song, name);
        if (bus == song.buses.end()) return Done{};
        const bool isOnTheWay = std::ranges::find(way, name) != way.end();
        way.push_back(name);
        if (isOnTheWay)
            return Error{
                ErrorCode::Usage,
                fmt::format("bus \"{}\" feeds itself: {}", name, joined({std::ranges::find(way, name), way.end()})),
                "lead one of them elsewhere"};
        if (std::ranges::find(done, &*bus) == done.end()) {
            if (const auto on = self(self, bus->into); !on) return on;
            for (const Send& send : bus->sends)
                if (const auto on = self(self, send.to); !on) return on;
            done.push_back(&*bus);
        }
        way.pop_back();
        return Done{};
    };
    for (const Bus& bus : song.buses)
        if (const auto on = visit(visit, bus.name); !on) return on;
    return Done{};
}

Outcome addBus(Song& song, const std::string& wanted)
{
    const auto name = nameFor(song, wanted);
    if (!name) return name.error();
    song.buses.push_back({*name, {}, 0.0, {}});
    return Done{};
}

Outcome renameBus(Song& song, const std::string& from, const std::string& to)
{
    const auto bus = find(song, from);
    if (bus == song.buses.end()) return noBus(from);
    if (validText(to) == from) return Done{};
    const auto name = nameFor(song, to);
    if (!name) return name.error();
    bus->name = *name;
    eachName(song, [&](std::string& named) {
        if (named == from) named = *name;
    });
    eachSends(song, [&](std::vector<Send>& sends) {
        for (Send& send : sends)
            if (send.to == from) send.to = *name;
    });
    return Done{};
}

Outcome removeBus(Song& song, const std::string& name)
{
    const auto bus = find(song, name);
    if (bus == song.buses.end()) return noBus(name);
    const std::string into = bus->into;
    song.buses.erase(bus);
    eachName(song, [&](std::string& named) {
        if (named == name) named = into;
    });
    eachSends(song,
              [&](std::vector<Send>& sends) { std::erase_if(sends, [&](const Send& s) { return s.to == name; }); });
    return Done{};
}

Outcome changeBus(Song& song, const std::string& name, const std::function<void(Bus&)>& work)
{
    const auto bus = find(song, name);
    if (bus == song.buses.end()) return noBus(name);
    const Bus before = *bus;
    work(*bus);
    const auto isThere = [&](const std::string& to) { return to.empty() || find(song, to) != song.buses.end(); };
    Outcome out = checkBuses(song);
    if (!isThere(bus->into)) out = noBus(bus->into);
    for (const Send& send : bus->sends)
        if (send.to.empty() || !isThere(send.to)) out = noBus(send.to);
    if (!out) *bus = before;
    return out;
}

Outcome leadLayer(Song& song, Layer& layer, const std::string& bus)
{
    if (!bus.empty() && find(song, bus) == song.buses.end()) return noBus(bus);
    layer.bus = bus;
    return Done{};
}

Result<std::vector<Send>> parseSends(const Song& song, const std::vector<std::string>& texts)
{
    constexpr double kMostDb = 60.0;
    std::vector<Send> out;
    for (const std::string& text : texts) {
        Send send{text};
        if (find(song, text) == song.buses.end()) { // a name may hold colons
            const auto colon = text.rfind(':');
            const auto gain = colon == std::string::npos ? std::nullopt : parseNumber(text.substr(colon + 1));
            if (!gain) return noBus(text);
            send = {text.substr(0, colon), *gain};
        }
        if (find(song, send.to) == song.buses.end()) return noBus(send.to);
        if (std::abs(send.gainDb) > kMostDb)
            return Error{ErrorCode::Usage, "send \"" + text + "\": its level is no number from -60 to 60",
                         "write BUS or BUS:gain_db"};
        out.push_back(std::move(send));
    }
    return out;
}

std::string nameOf(BusesBy by) { return by == BusesBy::Part ? "part" : by == BusesBy::Side ? "side" : "amplifier"; }

std::optional<BusesBy> parseBusesBy(const std::string& name)
{
    for (const auto by : {BusesBy::Part, BusesBy::Side, BusesBy::Amplifier})
        if (name == nameOf(by)) return by;
    return std::nullopt;
}

std::string gatheredIn(BusesBy by, const Part& part, const Layer& layer)
{
    switch (by) {
    case BusesBy::Part: return part.name;
    case BusesBy::Side: return layer.place < 0.0 ? "left" : layer.place > 0.0 ? "right" : "middle";
    case BusesBy::Amplifier: break;
    }
    return layer.rig.empty() ? "dry" : std::filesystem::path(layer.rig).stem().string();
}

std::size_t makeBuses(Song& song, BusesBy by)
{
    std::size_t made = 0;
    for (Part& part : song.parts)
        for (Layer& layer : part.layers) {
            if (!isPlayed(layer)) continue;
            const std::string name = gatheredIn(by, part, layer);
            if (find(song, name) == song.buses.end()) {
                song.buses.push_back({name, {}, 0.0, {}});
                ++made;
            }
            layer.bus = name;
        }
    return made;
}

} // namespace gristle::core
