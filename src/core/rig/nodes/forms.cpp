#include "core/rig/nodes/nodes.h"

namespace gristle::core {

ParameterSpec numberSpec(std::string key, std::string unit, double min, double max, std::string initial,
                         std::string about)
{
    const bool wide = unit != "dB" && min > 0.0 && max > 10.0 * min;
    return {.key = key,
            .label = key,
            .unit = std::move(unit),
            .min = min,
            .max = max,
            .initial = std::move(initial),
            .scale = wide ? Scale::Logarithmic : Scale::Linear,
            .about = std::move(about)};
}

ParameterSpec choiceSpec(std::string key, std::vector<std::string> choices, std::string initial, std::string about)
{
    return {.key = key,
            .label = key,
            .kind = ParameterKind::Choice,
            .initial = std::move(initial),
            .choices = std::move(choices),
            .about = std::move(about)};
}

} // namespace gristle::core
