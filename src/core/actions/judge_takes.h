#pragma once

#include "core/advice/take_judgement.h"
#include "core/mix/render/layer_source.h"
#include "core/session/session_folder.h"

#include <map>
#include <memory>

namespace gristle::core {

/// The takes of a layer, and everything that their judgement depends on, as a value.
struct TakesToJudge {
    struct One {
        Take take;
        std::string key; ///< equal where its measure is equal
        LayerRecipe dry;
    };
    std::vector<One> takes;
    std::filesystem::path folder;
    BarGrid grid{120.0, "4/4"};
    TakeMeasureOptions tuning;
    /// The layer that timing is told against: the first of the part with a take, before this one. None: the click.
    std::optional<LayerRecipe> earlier;
    std::string earlierKey, earlierName;

    std::string key() const; ///< of all of it
};
/// @param layer  of the part, its number
TakesToJudge takesToJudge(const SessionFolder& session, const Song& song, const Part& part, std::size_t layer);

/// What was measured before, by content: 0.3 MB a minute of a take.
struct TakeMemory {
    std::map<std::string, std::shared_ptr<const TakeMeasure>> measures;
    std::map<std::string, std::shared_ptr<const DoubleTake>> pairs;
};

/// A take, and what is thought of it.
struct JudgedTake {
    std::shared_ptr<const TakeMeasure> measure; ///< none where it could not be measured
    TakeJudgement judgement;
    std::string trouble; ///< why not
};
struct JudgedTakes {
    std::vector<JudgedTake> each; ///< as the layer's takes
    std::optional<BestTake> best; ///< by their numbers
    TakeMemory memory;            ///< with what is new
};
/// Measures what is new and judges all. Stopped, it gives what was measured and judges nothing. Cost: a take is
/// measured once, at some 50 to 100 times real time, and compared with the earlier layer once.
JudgedTakes judgeTakes(const TakesToJudge& wanted, TakeMemory memory, const Progress& progress = {});

} // namespace gristle::core
