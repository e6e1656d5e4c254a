#pragma once

/// Marks a function whose loops are worth a second build for wider vectors; the loader takes the one that the processor
/// has. Fused multiply-add is not among them, so every machine computes the same bits. Sanitizers and other compilers
/// go without: their run time is not ready when the loader chooses.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) &&               \
    !defined(__SANITIZE_THREAD__)
#define GRISTLE_VECTORISED __attribute__((target_clones("avx2", "default")))
#else
#define GRISTLE_VECTORISED
#endif
