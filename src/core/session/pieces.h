#pragma once

#include "core/session/session_document.h"

namespace gristle::core {

/// What is done to a stretch of a layer.
struct StretchChange {
    double fromS = 0.0, toS = 0.0; ///< of the song
    double laterMs = 0.0;          ///< added to what it is moved by
    double cents = 0.0;            ///< added to what it is retuned by
    double fadeMs = 6.0;           ///< at both its ends
    bool operator==(const StretchChange&) const = default;
};

/// The pieces of a layer with a stretch of it moved and retuned; what lies outside stays as it is. A layer without
/// pieces gets them. Neighbours that are alike become one.
std::vector<Piece> changedPieces(const Layer& layer, const StretchChange& change);

} // namespace gristle::core
