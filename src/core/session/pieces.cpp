#include "core/session/pieces.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr double kSameS = 1e-6;

/// Begins a piece at a place, unless one begins there.
void splitAt(std::vector<Piece>& pieces, double atS, double fadeMs)
{
    const auto after = std::ranges::find_if(pieces, [&](const Piece& p) { return p.fromS > atS + kSameS; });
    if (after == pieces.begin()) return; // before all
    Piece piece = *std::prev(after);
    if (piece.fromS > atS - kSameS) return;
    piece.fromS = atS, piece.fadeMs = fadeMs;
    pieces.insert(after, piece);
}

} // namespace

std::vector<Piece> changedPieces(const Layer& layer, const StretchChange& change)
{
    std::vector<Piece> pieces = heardPieces(layer);
    if (pieces.empty()) pieces.push_back({0.0, layer.chosen, 0.0, 0.0, 10.0});
    splitAt(pieces, change.fromS, change.fadeMs);
    splitAt(pieces, change.toS, change.fadeMs);
    for (Piece& p : pieces)
        if (p.fromS > change.fromS - kSameS && p.fromS < change.toS - kSameS)
            p.laterMs += change.laterMs, p.cents += change.cents;
    // A retuned piece turns about its middle: pieces of one take, moved alike, are one only where none is retuned.
    std::vector<Piece> out;
    for (const Piece& p : pieces) {
        const bool isAlike = !out.empty() && out.back().take == p.take && out.back().laterMs == p.laterMs &&
                             out.back().cents == 0.0 && p.cents == 0.0;
        if (!isAlike) out.push_back(p);
    }
    return out;
}

} // namespace gristle::core
