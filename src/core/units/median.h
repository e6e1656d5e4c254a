#pragma once

#include <algorithm>
#include <vector>

namespace gristle::core {

/// Of an even number of values the mean of the two in the middle; of none 0.
inline double median(std::vector<double> v)
{
    if (v.empty()) return 0.0;
    const auto middle = v.begin() + long(v.size() / 2);
    std::ranges::nth_element(v, middle);
    if (v.size() % 2 == 1) return *middle;
    return 0.5 * (*middle + *std::max_element(v.begin(), middle));
}

} // namespace gristle::core
