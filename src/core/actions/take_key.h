#pragma once

#include "core/mix/render/layer_source.h"
#include "core/session/session_document.h"

namespace gristle::core {

/// All that the measure of a performance depends on, as a ContentKey: what is heard of it, the song's bars and tuning,
/// and, of a take, its capo and what it was played for.
std::string takeKey(const Song& song, const LayerRecipe& dry, const Take* take = nullptr);

} // namespace gristle::core
