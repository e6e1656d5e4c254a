#include "core/session/take_place.h"

#include "core/session/layer_role.h"
#include "core/session/section_edit.h"

#include <algorithm>
#include <fmt/format.h>

namespace gristle::core {

namespace {

Song& songNamed(SessionDocument& document, const std::string& name)
{
    const auto at = std::ranges::find(document.songs, name, &Song::name);
    if (at != document.songs.end()) return *at;
    // The empty song that a new session starts with takes the first name that is given.
    if (document.songs.size() == 1 && document.songs[0].parts.empty()) {
        document.songs[0].name = name;
        return document.songs[0];
    }
    Song song;
    song.name = name;
    if (!document.songs.empty()) song.tempoBpm = document.songs.back().tempoBpm;
    return document.songs.emplace_back(std::move(song));
}

template<typename T> T& named(std::vector<T>& all, const std::string& name)
{
    const auto at = std::ranges::find(all, name, &T::name);
    if (at != all.end()) return *at;
    T made;
    made.name = name;
    return all.emplace_back(std::move(made));
}

/// The rig of the layer's neighbour in its part.
std::string rigBeside(const Part& part, const std::string& layer, const std::string& firstRig)
{
    for (auto l = part.layers.rbegin(); l != part.layers.rend(); ++l)
        if (l->name != layer && !l->rig.empty()) return l->rig;
    return firstRig;
}

} // namespace

Outcome checkPlace(const SessionDocument& document, const TakePlace& into)
{
    const auto song = std::ranges::find(document.songs, into.song, &Song::name);
    if (!into.role || song == document.songs.end()) return Done{};
    const auto part = std::ranges::find(song->parts, into.part, &Part::name);
    if (part == song->parts.end()) return Done{};
    const auto layer = std::ranges::find(part->layers, into.layer, &Layer::name);
    if (layer == part->layers.end() || layer->takes.empty() || layer->role == *into.role) return Done{};
    return Error{ErrorCode::Usage,
                 fmt::format("layer \"{}\" of \"{}\": it has takes of {}, and this is {}", layer->name, part->name,
                             wordsOf(layer->role), wordsOf(*into.role)),
                 "name another layer, or change the role of this one first"};
}

LayerPath addTake(SessionDocument& document, const TakePlace& into, Take take, const std::string& firstRig)
{
    if (document.sampleRateHz == 0) document.sampleRateHz = take.sampleRateHz;
    Song& song = songNamed(document, into.song);
    if (into.clockS > 0.0 && endOf(song) == 0.0) song.stampS = into.clockS;
    Part& part = named(song.parts, into.part);
    const std::size_t before = part.layers.size();
    Layer& layer = named(part.layers, into.layer);
    if (layer.takes.empty()) {
        if (into.place) layer.place = *into.place;
        if (into.role) layer.role = *into.role;
        if (!into.source.empty()) layer.source = into.source;
    }
    if (part.layers.size() > before && mayHaveRig(layer.role)) layer.rig = rigBeside(part, layer.name, firstRig);
    if (!mayHaveRig(layer.role)) layer.rig.clear();
    if (!into.guitar.empty()) layer.guitar = into.guitar;
    if (!into.pickup.empty()) layer.pickup = into.pickup;
    take.atS = into.atS != 0.0 ? into.atS : take.atS;
    const bool counts = !take.isPunch() || layer.takes.empty();
    layer.takes.push_back(std::move(take));
    if (counts) {
        layer.chosen = layer.takes.size() - 1;
        layer.pieces.clear();
    }
    return {std::size_t(&song - document.songs.data()), std::size_t(&part - song.parts.data()),
            std::size_t(&layer - part.layers.data())};
}

} // namespace gristle::core
