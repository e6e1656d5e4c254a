#pragma once

#include "core/session/session_document.h"

namespace gristle::core {

/// Which step of a path is meant.
enum class Step { Song, Part, Layer };
std::string stepWord(Step step); ///< "song", "part", "layer"

/// Songs, parts and layers are made, renamed, put in order, copied and removed as values of the document; no file is
/// touched, so that what was removed can come back. Each gives the path that is in hand afterwards.
/// @error Usage where there is no such thing, or its name is empty or has its like already

/// Behind the one at `at`; where there is none, as the first. A song begins with the tempo, meter, tuning and reference
/// of its neighbour, a part with its notes on playing, a layer with its neighbour's rig, guitar and pickup on the other
/// side. An empty name: the next that is free, "Left 2" beside "Right 2".
Result<LayerPath> addStep(SessionDocument& document, Step step, const LayerPath& at, const std::string& name = {});
/// With all that is in it, its takes too, behind it; named as it is with the next number.
Result<LayerPath> copyStep(SessionDocument& document, Step step, const LayerPath& at);
Result<LayerPath> renameStep(SessionDocument& document, Step step, const LayerPath& at, const std::string& name);
/// @param to  its place among its like, from 0; beyond the last: the last
Result<LayerPath> moveStep(SessionDocument& document, Step step, const LayerPath& at, std::size_t to);
Result<LayerPath> removeStep(SessionDocument& document, Step step, const LayerPath& at);

/// By names, where they are given. @error Usage
Result<LayerPath> findStep(const SessionDocument& document, Step step, const std::string& song, const std::string& part,
                           const std::string& layer);

/// @param at  of something that is there
const std::string& nameOf(const SessionDocument& document, Step step, const LayerPath& at);

/// Where what was in hand is after an edit: by its names, else what took its place.
LayerPath pathAfter(const SessionDocument& before, const SessionDocument& after, const LayerPath& path);

} // namespace gristle::core
