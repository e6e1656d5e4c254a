#pragma once

#include "core/advice/finding.h"
#include "core/mix/render/mixdown.h"
#include "core/session/session_folder.h"

namespace gristle::core {

/// Layers to be summed, as a value.
struct MixPlan {
    /// Where a layer comes from.
    struct Origin {
        std::string part; ///< empty: it is a file by itself
        LayerRole role = LayerRole::Di;
    };
    std::string song;
    std::vector<MixLayer> layers; ///< their names in their recipes
    std::vector<Origin> origins;  ///< of the layers
    MixOptions options;
    std::vector<std::string> warnings; ///< of reading the rigs, and of buses that are not there
};
/// The layers of a part that have a take, but for references, at the session's rate and place law, through the song's
/// buses. @error FileMissing where there is none; Usage where a bus feeds itself; as layerRecipe()
Result<MixPlan> planMix(const SessionFolder& session, const Song& song, const Part& part, bool allowMissing);
/// The same of all parts.
Result<MixPlan> planMix(const SessionFolder& session, const Song& song, bool allowMissing);
/// What of a song is heard beside a part: its backing. @error FileMissing where there is none
Result<MixPlan> planBand(const SessionFolder& session, const Song& song, bool allowMissing);
/// The same by names: of a part, or of all parts of a song where `part` is empty; the first song where `song` is.
/// @error besides, Usage where there is no such song or part
Result<MixPlan> planMix(const SessionFolder& session, const std::string& song, const std::string& part,
                        bool allowMissing);

/// A sum, and what is to be said of it.
struct MixAnswer {
    MixReport report;
    std::vector<Finding> findings;
};
/// @param subject  of the findings @error as mixToFile()
Result<MixAnswer> writeMix(const std::filesystem::path& out, const MixPlan& plan, SampleFormat format,
                           const std::string& subject, const Progress& progress = {}, RenderCache* cache = nullptr);

} // namespace gristle::core
