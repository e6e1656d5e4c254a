#pragma once

#include "core/timing/onsets.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace gristle::test {

/// Found onsets against those that were played: each played one takes the nearest within 25 ms that no other has.
struct OnsetScore {
    std::vector<double> offMs; ///< of those that are found, later above 0
    std::size_t found = 0, played = 0;
    double f1() const { return 2.0 * double(offMs.size()) / double(std::max<std::size_t>(1, found + played)); }
};

inline OnsetScore scoreOf(const std::vector<core::Onset>& found, const std::vector<double>& playedS)
{
    std::vector<bool> used(found.size());
    OnsetScore out{{}, found.size(), playedS.size()};
    for (const double t : playedS) {
        std::size_t best = found.size();
        for (std::size_t k = 0; k < found.size(); ++k)
            if (!used[k] && std::abs(found[k].timeS - t) < 0.025 &&
                (best == found.size() || std::abs(found[k].timeS - t) < std::abs(found[best].timeS - t)))
                best = k;
        if (best == found.size()) continue;
        used[best] = true;
        out.offMs.push_back(1000.0 * (found[best].timeS - t));
    }
    return out;
}

} // namespace gristle::test
