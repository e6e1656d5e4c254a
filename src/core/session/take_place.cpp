#include "core/session/take_place.h"

#include <algorithm>

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

LayerPath addTake(SessionDocument& document, const TakePlace& into, Take take, const std::string& firstRig)
{
    if (document.sampleRateHz == 0) document.sampleRateHz = take.sampleRateHz;
    Song& song = songNamed(document, into.song);
    Part& part = named(song.parts, into.part);
    const std::size_t before = part.layers.size();
    Layer& layer = named(part.layers, into.layer);
    if (part.layers.size() > before) layer.rig = rigBeside(part, layer.name, firstRig);
    if (layer.takes.empty() && into.place) layer.place = *into.place;
    if (!into.guitar.empty()) layer.guitar = into.guitar;
    if (!into.pickup.empty()) layer.pickup = into.pickup;
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
