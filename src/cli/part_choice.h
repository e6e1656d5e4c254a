#pragma once

#include "core/session/session_document.h"

namespace gristle::cli {

/// What --song, --part and --layer name.
struct PartChoice {
    const core::Song* song;
    const core::Part* part;
    std::size_t layer; ///< the one of that name, or the first that has a take
};
/// @param song  empty: the first that has such a part @error Usage where there is none; FileMissing without a take
core::Result<PartChoice> choosePart(const core::SessionDocument& document, const std::string& song,
                                    const std::string& part, const std::string& layer = {});

} // namespace gristle::cli
