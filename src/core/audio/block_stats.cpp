#include "core/audio/block_stats.h"

#include "core/units/vectorised.h"

#include <algorithm>
#include <cassert>

namespace gristle::core {

namespace {

[[gnu::always_inline]] inline MinMax folded(const LaneExtremes& lanes)
{
    MinMax out{lanes.low[0], lanes.high[0]};
    for (std::size_t k = 1; k < kFloatLane; ++k) {
        out.low = lanes.low[k] < out.low ? lanes.low[k] : out.low;
        out.high = lanes.high[k] > out.high ? lanes.high[k] : out.high;
    }
    return out;
}

[[gnu::always_inline]] inline MinMax extremesOfLanes(const float* x, std::size_t count)
{
    LaneExtremes lanes;
    load(lanes.low, x);
    lanes.high = lanes.low;
    for (std::size_t i = kFloatLane; i < count; i += kFloatLane) {
        FloatLane next;
        load(next, x + i);
        lanes.take(next);
    }
    return folded(lanes);
}

GRISTLE_VECTORISED
MinMax extremes(const float* x, std::size_t count) noexcept
{
    const std::size_t whole = count - count % kFloatLane;
    MinMax out = whole > 0 ? extremesOfLanes(x, whole) : MinMax{x[0], x[0]};
    for (std::size_t i = whole; i < count; ++i) {
        out.low = std::min(out.low, x[i]);
        out.high = std::max(out.high, x[i]);
    }
    return out;
}

GRISTLE_VECTORISED
void extremesOfEach(const float* x, std::size_t block, MinMax* out, std::size_t blocks) noexcept
{
    for (std::size_t b = 0; b < blocks; ++b) out[b] = extremesOfLanes(x + b * block, block);
}

constexpr std::size_t kLanes = 8; // side by side: a plain sum over floats a compiler may not reorder

GRISTLE_VECTORISED
Sums sums(const float* x, std::size_t count) noexcept
{
    double sum[kLanes] = {}, squares[kLanes] = {};
    const std::size_t whole = count - count % kLanes;
    for (std::size_t i = 0; i < whole; i += kLanes)
        for (std::size_t k = 0; k < kLanes; ++k) {
            const double v = double(x[i + k]);
            sum[k] += v;
            squares[k] += v * v;
        }
    for (std::size_t i = whole; i < count; ++i) {
        sum[0] += double(x[i]);
        squares[0] += double(x[i]) * double(x[i]);
    }
    Sums out;
    for (std::size_t k = 0; k < kLanes; ++k) {
        out.sum += sum[k];
        out.squares += squares[k];
    }
    return out;
}

} // namespace

MinMax extremesOf(std::span<const float> x) noexcept
{
    assert(!x.empty());
    return extremes(x.data(), x.size());
}

void extremesOfBlocks(std::span<const float> x, std::size_t block, std::span<MinMax> out) noexcept
{
    assert(block > 0 && block % kFloatLane == 0 && x.size() >= block * out.size());
    extremesOfEach(x.data(), block, out.data(), out.size());
}

Sums sumsOf(std::span<const float> x) noexcept { return sums(x.data(), x.size()); }

} // namespace gristle::core
