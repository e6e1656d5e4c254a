#pragma once

#include <cstddef>
#include <cstring>

/// Marks a function whose loops are worth a second build for wider vectors; the loader takes the one that the processor
/// has. Fused multiply-add is not among them, so every machine computes the same bits. Sanitizers and other compilers
/// go without: their run time is not ready when the loader chooses.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) &&               \
    !defined(__SANITIZE_THREAD__)
#define GRISTLE_VECTORISED __attribute__((target_clones("avx2", "default")))
#else
#define GRISTLE_VECTORISED
#endif

namespace gristle::core {

/// Eight floats side by side; compilers without so wide a register take two.
using FloatLane = float __attribute__((vector_size(32)));
constexpr std::size_t kFloatLane = 8;

[[gnu::always_inline]] inline void load(FloatLane& lane, const float* from) { std::memcpy(&lane, from, sizeof lane); }

/// Highest and lowest value so far of each lane.
struct LaneExtremes {
    FloatLane high{}, low{};
    [[gnu::always_inline]] void take(const FloatLane& x)
    {
        high = x > high ? x : high;
        low = x < low ? x : low;
    }
};

} // namespace gristle::core
