#include "core/session/document_change.h"

namespace gristle::core {

namespace {

/// What still differs once all that has a name of its own is made alike is the rest.
void compare(const Layer& a, Layer b, DocumentChange& change)
{
    change.names |= a.name != b.name;
    change.takes |= a.takes != b.takes || a.chosen != b.chosen || a.pieces != b.pieces || a.earlierMs != b.earlierMs ||
                    a.isInverted != b.isInverted;
    change.takes |= a.role != b.role || a.source != b.source;
    change.placing |= a.place != b.place || a.gainDb != b.gainDb || a.bus != b.bus || a.sends != b.sends;
    change.rigs |= a.rig != b.rig;
    b.role = a.role, b.source = a.source, b.bus = a.bus, b.sends = a.sends;
    b.name = a.name, b.takes = a.takes, b.chosen = a.chosen, b.pieces = a.pieces;
    b.earlierMs = a.earlierMs, b.isInverted = a.isInverted;
    b.place = a.place, b.gainDb = a.gainDb, b.rig = a.rig;
    change.rest |= !(a == b);
}

} // namespace

DocumentChange changeOf(const SessionDocument& before, const SessionDocument& after)
{
    DocumentChange out;
    SessionDocument a = before, b = after;
    out.names = a.songs.size() != b.songs.size();
    for (std::size_t s = 0; s < std::min(a.songs.size(), b.songs.size()); ++s) {
        Song &x = a.songs[s], &y = b.songs[s];
        out.names |= x.name != y.name || x.parts.size() != y.parts.size();
        out.bars |= x.tempoBpm != y.tempoBpm || x.meter != y.meter || x.tempos != y.tempos || x.meters != y.meters ||
                    x.tuning != y.tuning || x.referenceHz != y.referenceHz;
        for (std::size_t p = 0; p < std::min(x.parts.size(), y.parts.size()); ++p) {
            Part &v = x.parts[p], &w = y.parts[p];
            out.names |= v.name != w.name || v.layers.size() != w.layers.size();
            for (std::size_t l = 0; l < std::min(v.layers.size(), w.layers.size()); ++l)
                compare(v.layers[l], w.layers[l], out);
            out.rest |= v.playing != w.playing || v.doubleStyle != w.doubleStyle || v.unknown != w.unknown;
        }
        out.placing |= x.buses != y.buses || x.rig != y.rig || x.gainDb != y.gainDb;
        out.rest |= x.sections != y.sections || x.stampS != y.stampS || x.unknown != y.unknown;
    }
    out.takes |= a.interface != b.interface || a.sampleRateHz != b.sampleRateHz;
    if (out.names) out.takes = out.placing = out.rigs = true; // layers came, went or moved
    out.placing |= a.law != b.law;
    a.songs.clear(), b.songs.clear();
    b.law = a.law, b.interface = a.interface, b.sampleRateHz = a.sampleRateHz;
    out.rest |= !(a == b);
    return out;
}

} // namespace gristle::core
