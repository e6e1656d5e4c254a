#pragma once

#include "core/session/session_document.h"

namespace gristle::core {

/// "di", "mic", "backing", "reference", as documents and the command line write them.
std::string nameOf(LayerRole role);
std::string wordsOf(LayerRole role); ///< "a DI", "a microphone"
std::optional<LayerRole> parseRole(const std::string& name);

/// What layers of a role may be; the first one is meant where nothing is said. None for a reference.
const std::vector<std::string>& sourcesOf(LayerRole role);
std::string sourceOf(const Layer& layer); ///< the layer's own, or the first of its role

bool mayHaveRig(LayerRole role);  ///< only a DI
bool mayBeStereo(LayerRole role); ///< all but a DI
bool isInMix(LayerRole role);     ///< all but a reference
bool isOfTheBand(LayerRole role); ///< backing and reference: heard beside the part, never judged as its guitar

/// Changes what a layer is; one that may have no rig loses the name of its. @error Usage where it holds stereo takes
/// that the role does not allow, or where `source` is none of the role's; empty: the first of them
Outcome setRole(Layer& layer, LayerRole role, const std::string& source);

/// A layer that is judged as a performance of the part.
inline bool isPlayed(const Layer& layer) { return !isOfTheBand(layer.role); }

} // namespace gristle::core
