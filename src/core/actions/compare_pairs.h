#pragma once

#include "core/advice/pair_choice.h"
#include "core/mix/render/layer_source.h"
#include "core/session/session_folder.h"

#include <map>
#include <memory>

namespace gristle::core {

/// The whole takes of a part, each once, as a value.
struct PartTakes {
    struct One {
        std::size_t layer = 0, take = 0; ///< in the part
        std::string file, key;           ///< key: equal where its measure is equal
        LayerRecipe dry;
    };
    static constexpr std::size_t kMost = 8; ///< compared, the last ones: 28 pairs
    std::vector<One> takes;
    bool isCut = false; ///< there are more
    BarGrid grid{120.0, "4/4"};

    std::string key() const; ///< of all of it
};
PartTakes takesOf(const SessionFolder& session, const Song& song, const Part& part);

/// What was compared before, by content.
struct PairMemory {
    struct Compared {
        std::optional<DoubleTake> take; ///< none where they could not be compared
        std::string trouble;            ///< why not
    };
    std::map<std::string, std::shared_ptr<const Compared>> pairs; ///< by the keys of the two takes
    std::map<std::string, double> own;                            ///< what a take costs by itself
};
/// Compares what the memory lacks. Stopped, it gives as much as it has. Cost: n (n - 1) / 2 comparisons.
PairMemory comparePairs(const PartTakes& part, PairMemory memory, const Progress& progress = {});

/// All pairs that are compared, and what is best made of them.
struct PairsOfPart {
    struct Row {
        std::size_t first = 0, second = 0; ///< of PartTakes::takes
        std::shared_ptr<const PairMemory::Compared> compared;
        double cost = 0.0; ///< of the pair and of its takes
    };
    std::vector<Row> rows; ///< those that could be compared, the best first
    bool isWhole = true;   ///< all are known
    std::optional<SideChoice> two, four;
};
/// A choice that costs as much holds a copy or two parts: it makes no width.
inline constexpr double kNoWidthCost = 100.0;
PairsOfPart choosePairs(const PartTakes& part, const PairMemory& memory, const DoubleLimits& limits);

} // namespace gristle::core
