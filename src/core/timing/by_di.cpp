#include "core/timing/by_di.h"

#include "core/measure/level.h"
#include "core/timing/alignment.h"

#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kOnePerformance = 0.5; // of confidence
constexpr double kCleanerDb = 3.0;      // of crest

} // namespace

Result<std::vector<float>> diInPlaceOf(std::span<const float> heard, std::span<const float> di, double rateHz)
{
    const auto alignment = alignTo(heard, di, rateHz);
    if (!alignment) return alignment.error();
    if (alignment->confidence < kOnePerformance)
        return Error{
            ErrorCode::Usage,
            fmt::format("double: the DI is not of the same performance (confidence {:.2f})", alignment->confidence),
            "name the DI that was recorded with it, beginning at the same moment"};
    return movedEarlier(di, alignment->delaySamples, alignment->isInverted);
}

std::optional<std::vector<float>> asItsDi(std::span<const float> heard, std::span<const float> other, double rateHz)
{
    if (crestDb(other) < crestDb(heard) + kCleanerDb) return std::nullopt;
    auto moved = diInPlaceOf(heard, other, rateHz);
    return moved ? std::optional(std::move(*moved)) : std::nullopt;
}

} // namespace gristle::core
