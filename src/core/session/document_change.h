#pragma once

#include "core/session/session_document.h"

namespace gristle::core {

/// What an edit moved, so that whoever shows a part of it looks again only where that is touched.
struct DocumentChange {
    bool names = false;   ///< which songs, parts and layers there are, their order and what they are called
    bool bars = false;    ///< tempo, meter, tuning
    bool takes = false;   ///< what is heard of the performances: takes, which counts, pieces, moves, polarity, scale
    bool placing = false; ///< place and gain of layers, the place law
    bool rigs = false;    ///< which rig a layer plays through
    bool rest = false;    ///< calibration, set-ups, notes on playing, styles and all else
    bool operator==(const DocumentChange&) const = default;
};
/// Cost: that of comparing the documents.
DocumentChange changeOf(const SessionDocument& before, const SessionDocument& after);

} // namespace gristle::core
