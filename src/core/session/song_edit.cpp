#include "core/session/song_edit.h"

#include "core/session/layer_role.h"
#include "core/units/text.h"

#include <algorithm>
#include <fmt/format.h>

namespace gristle::core {

namespace {

std::size_t& indexOf(LayerPath& path, Step step)
{
    return step == Step::Song ? path.song : step == Step::Part ? path.part : path.layer;
}

/// Calls `work` with the list that holds the step. @error Usage where the steps above it are not there
template<typename Work> Result<LayerPath> withList(SessionDocument& d, Step step, const LayerPath& at, const Work& work)
{
    if (step == Step::Song) return work(d.songs);
    if (at.song >= d.songs.size()) return Error{ErrorCode::Usage, "there is no such song", "make one first"};
    Song& song = d.songs[at.song];
    if (step == Step::Part) return work(song.parts);
    if (at.part >= song.parts.size())
        return Error{ErrorCode::Usage, song.name + ": there is no such part", "make one first"};
    return work(song.parts[at.part].layers);
}

/// The same, of a step that is there: `work` gets the list, and its index, which is that of the path that it gives.
template<typename Work> Result<LayerPath> withStep(SessionDocument& d, Step step, const LayerPath& at, const Work& work)
{
    return withList(d, step, at, [&](auto& all) -> Result<LayerPath> {
        LayerPath out = at;
        std::size_t& index = indexOf(out, step);
        if (index >= all.size())
            return Error{ErrorCode::Usage, fmt::format("there is no such {}", stepWord(step)), "choose another"};
        if (const Outcome done = work(all, index); !done) return done.error();
        return out;
    });
}

template<typename T> bool isTaken(const std::vector<T>& all, const std::string& name)
{
    return std::ranges::find(all, name, &T::name) != all.end();
}

/// The name less the number at its end, and that number; 1 where there is none.
std::pair<std::string, int> numbered(const std::string& name)
{
    const auto digit = name.find_last_not_of("0123456789");
    if (digit == std::string::npos || digit + 1 == name.size() || name[digit] != ' ' || name.size() - digit > 8)
        return {name, 1};
    return {name.substr(0, digit), std::stoi(name.substr(digit + 1))};
}

template<typename T> std::string nextFree(const std::vector<T>& all, const std::string& like)
{
    if (!isTaken(all, like)) return like;
    const auto [stem, first] = numbered(like);
    for (int n = first + 1;; ++n)
        if (const auto name = fmt::format("{} {}", stem, n); !isTaken(all, name)) return name;
}

/// "Right 1" beside "Left 1", "wide left" beside "wide right".
std::string otherSide(const std::string& name)
{
    for (const auto& [one, other] : {std::pair{"Left", "Right"}, {"left", "right"}})
        for (const auto& [from, to] : {std::pair{one, other}, {other, one}})
            if (const auto at = name.find(from); at != std::string::npos)
                return name.substr(0, at) + to + name.substr(at + std::string(from).size());
    return name;
}

Song madeBeside(const Song* neighbour)
{
    Song out;
    if (neighbour) {
        out.tempoBpm = neighbour->tempoBpm, out.meter = neighbour->meter;
        out.tuning = neighbour->tuning, out.referenceHz = neighbour->referenceHz;
    }
    return out;
}

Part madeBeside(const Part* neighbour)
{
    Part out;
    if (neighbour) out.playing = neighbour->playing, out.doubleStyle = neighbour->doubleStyle;
    return out;
}

Layer madeBeside(const Layer* neighbour)
{
    Layer out;
    if (neighbour && isPlayed(*neighbour)) {
        out.role = neighbour->role, out.source = neighbour->source;
        out.bus = neighbour->bus, out.sends = neighbour->sends;
        out.rig = neighbour->rig, out.guitar = neighbour->guitar, out.pickup = neighbour->pickup;
        out.place = neighbour->place == 0.0 ? 0.0 : -neighbour->place;
        out.gainDb = neighbour->gainDb;
    }
    return out;
}

template<typename T> std::string usualName(const std::vector<T>& all, const T* neighbour)
{
    if constexpr (std::is_same_v<T, Layer>) return nextFree(all, neighbour ? otherSide(neighbour->name) : "Layer 1");
    return nextFree(all, std::is_same_v<T, Song> ? "Song 1" : "Part 1");
}

Result<std::string> nameFor(const std::string& wanted, Step step, const auto& all)
{
    const std::string name = validText(wanted);
    if (name.find_first_not_of(' ') == std::string::npos)
        return Error{ErrorCode::Usage, fmt::format("a {} without a name", stepWord(step)), "give it one"};
    if (isTaken(all, name))
        return Error{ErrorCode::Usage, fmt::format("there is a {} \"{}\" already", stepWord(step), name),
                     "choose another name"};
    return name;
}

/// Where a thing that stood at `index` is, by its name, else whatever stands in its place.
template<typename T>
std::size_t indexAfter(const std::vector<T>& before, const std::vector<T>& after, std::size_t index)
{
    if (index < before.size())
        if (const auto at = std::ranges::find(after, before[index].name, &T::name); at != after.end())
            return std::size_t(at - after.begin());
    return after.empty() ? 0 : std::min(index, after.size() - 1);
}

} // namespace

std::string stepWord(Step step) { return step == Step::Song ? "song" : step == Step::Part ? "part" : "layer"; }

Result<LayerPath> addStep(SessionDocument& document, Step step, const LayerPath& at, const std::string& wanted)
{
    return withList(document, step, at, [&](auto& all) -> Result<LayerPath> {
        LayerPath out = at;
        std::size_t& index = indexOf(out, step);
        const auto* neighbour = all.empty() ? nullptr : &all[std::min(index, all.size() - 1)];
        const auto name = nameFor(wanted.empty() ? usualName(all, neighbour) : wanted, step, all);
        if (!name) return name.error();
        auto made = madeBeside(neighbour);
        made.name = *name;
        index = all.empty() ? 0 : std::min(index, all.size() - 1) + 1;
        all.insert(all.begin() + long(index), std::move(made));
        if (step == Step::Song) out.part = 0;
        if (step != Step::Layer) out.layer = 0;
        return out;
    });
}

Result<LayerPath> copyStep(SessionDocument& document, Step step, const LayerPath& at)
{
    return withStep(document, step, at, [&](auto& all, std::size_t& index) -> Outcome {
        auto copied = all[index];
        copied.name = nextFree(all, copied.name);
        all.insert(all.begin() + long(++index), std::move(copied));
        return Done{};
    });
}

Result<LayerPath> renameStep(SessionDocument& document, Step step, const LayerPath& at, const std::string& wanted)
{
    return withStep(document, step, at, [&](auto& all, std::size_t& index) -> Outcome {
        if (validText(wanted) == all[index].name) return Done{};
        const auto name = nameFor(wanted, step, all);
        if (!name) return name.error();
        all[index].name = *name;
        return Done{};
    });
}

Result<LayerPath> moveStep(SessionDocument& document, Step step, const LayerPath& at, std::size_t to)
{
    return withStep(document, step, at, [&](auto& all, std::size_t& index) -> Outcome {
        to = std::min(to, all.size() - 1);
        const auto first = all.begin();
        if (to > index)
            std::rotate(first + long(index), first + long(index) + 1, first + long(to) + 1);
        else
            std::rotate(first + long(to), first + long(index), first + long(index) + 1);
        index = to;
        return Done{};
    });
}

Result<LayerPath> removeStep(SessionDocument& document, Step step, const LayerPath& at)
{
    auto out = withStep(document, step, at, [&](auto& all, std::size_t& index) -> Outcome {
        all.erase(all.begin() + long(index));
        if (index > 0 && index >= all.size()) index = all.size() - 1;
        return Done{};
    });
    if (out && step == Step::Song) out->part = 0;
    if (out && step != Step::Layer) out->layer = 0;
    return out;
}

Result<LayerPath> findStep(const SessionDocument& document, Step step, const std::string& song, const std::string& part,
                           const std::string& layer)
{
    LayerPath out;
    const auto find = [&](const auto& all, Step which, const std::string& name, std::size_t& index) -> Outcome {
        if (name.empty() && which != step && !all.empty()) return Done{}; // of what is above it: the first
        const auto at = std::ranges::find(all, name, &std::decay_t<decltype(all)>::value_type::name);
        if (at == all.end())
            return Error{ErrorCode::Usage,
                         fmt::format("{} \"{}\": there is no such {}", stepWord(which), name, stepWord(which)),
                         "see session info"};
        index = std::size_t(at - all.begin());
        return Done{};
    };
    if (const auto found = find(document.songs, Step::Song, song, out.song); !found) return found.error();
    if (step == Step::Song) return out;
    const Song& s = document.songs[out.song];
    if (const auto found = find(s.parts, Step::Part, part, out.part); !found) return found.error();
    if (step == Step::Part) return out;
    if (const auto found = find(s.parts[out.part].layers, Step::Layer, layer, out.layer); !found) return found.error();
    return out;
}

const std::string& nameOf(const SessionDocument& document, Step step, const LayerPath& at)
{
    const Song& song = document.songs[at.song];
    return step == Step::Song   ? song.name
           : step == Step::Part ? song.parts[at.part].name
                                : findLayer(document, at)->name;
}

LayerPath pathAfter(const SessionDocument& before, const SessionDocument& after, const LayerPath& path)
{
    LayerPath out;
    out.song = indexAfter(before.songs, after.songs, path.song);
    if (path.song >= before.songs.size() || out.song >= after.songs.size()) return out;
    const Song &was = before.songs[path.song], &is = after.songs[out.song];
    out.part = indexAfter(was.parts, is.parts, path.part);
    if (path.part >= was.parts.size() || out.part >= is.parts.size()) return out;
    out.layer = indexAfter(was.parts[path.part].layers, is.parts[out.part].layers, path.layer);
    return out;
}

} // namespace gristle::core
