#pragma once

#include "core/actions/mix_layers.h"

namespace gristle::core {

enum class StemsBy { Layer, Part, Side, Bus };
std::string nameOf(StemsBy by); ///< "layer", "part", "side", "bus"
std::optional<StemsBy> parseStemsBy(const std::string& name);

/// One of the files that a mix comes apart into.
struct Stem {
    std::string name; ///< "Night Ferry, Left 1"
    MixPlan plan;     ///< what is heard in it
};

/// A mix taken apart. By layer, part or side: each group alone through the song's buses. By bus: what each bus that
/// leads into the song brings there, and what goes there straight. Groups that sound nowhere are left out.
std::vector<Stem> stemsOf(const MixPlan& plan, StemsBy by);

/// What of a mix goes through one bus, its buses before it and after it included; kIntoSum: what goes straight.
MixPlan onlyThrough(const MixPlan& plan, std::size_t bus);

/// Whether stems may be written there: a folder, or nothing yet, that no session owns. @error Usage
Outcome checkStemsFolder(const std::filesystem::path& folder);

struct StemsAnswer {
    struct One {
        std::filesystem::path file;
        MixReport report;
    };
    std::vector<One> stems;
    double residualDbfs = -300.0; ///< highest sample of the mix less the sum of the stems, as they were written
    std::vector<Finding> findings;
};
/// Writes them into a folder: all begin where the mix begins, are as long as it, and carry its time stamp. A name that
/// is there already gets a number; nothing is written over.
/// @param mix  the mix as it was written, to compare with @error as mixToFile() and checkStemsFolder(); WriteFailed
Result<StemsAnswer> writeStems(const std::filesystem::path& folder, const MixPlan& plan, StemsBy by,
                               const std::filesystem::path& mix, SampleFormat format, const Progress& progress = {},
                               RenderCache* cache = nullptr);

} // namespace gristle::core
