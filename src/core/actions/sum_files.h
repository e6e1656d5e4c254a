#pragma once

#include "core/advice/sum_findings.h"
#include "core/units/progress.h"

#include <filesystem>

namespace gristle::core {

struct SumAnswer {
    int rateHz = 0;
    SumLoss sum;
    std::vector<Finding> findings;
    std::vector<std::string> warnings; ///< what of the files is not heard as it is
};

/// What files lose where they meet; the first ten minutes, at the first one's rate. A file with unlike channels counts
/// as their mean, as mono hears it. @error what reading gives; as sumLoss(); Cancelled
Result<SumAnswer> sumFiles(const std::vector<std::filesystem::path>& files, double maxMs,
                           const Progress& progress = {});

} // namespace gristle::core
