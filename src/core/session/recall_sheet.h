#pragma once

#include "core/session/session_folder.h"

namespace gristle::core {

/// A measured line of a layer, handed in by whoever measured: shown as it is, a dash where there is none.
struct LayerReading {
    LayerPath path;
    std::string level; ///< "averages −17.8 dBFS, peak −6.1 dBTP"
};

/// Everything that sets the session up again, as one self-contained HTML page for paper and screen: songs, parts,
/// layers with place, gain, guitar, pickup, take and rig with every value, then the log.
std::string recallSheetHtml(const SessionFolder& session, const std::vector<LayerReading>& readings);

/// What sets one part up again, as an HTML fragment without a style: its layers, and every value of the rigs that they
/// play through. Costs as much as the part, whatever the session holds. Empty where there is no such part.
std::string recallPartHtml(const SessionFolder& session, std::size_t song, std::size_t part,
                           const std::vector<LayerReading>& readings);

/// The log as CSV (RFC 4180), one line an entry, with a head.
std::string logCsv(const std::vector<LogEntry>& entries);

} // namespace gristle::core
