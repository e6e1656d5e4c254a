#pragma once

/// FOR_BOTH marks a function that is made once more for the processors that most machines have, with fused
/// multiply-add; the loader takes the one that runs. FOR_WIDE marks one for registers of eight numbers alone, to be
/// called where isWideProcessor(). Sanitizers and other compilers go without: their run time is not ready when the
/// loader chooses.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) &&               \
    !defined(__SANITIZE_THREAD__)
#define GRISTLE_FOR_BOTH_PROCESSORS __attribute__((target_clones("arch=x86-64-v3", "default")))
#define GRISTLE_FOR_WIDE_PROCESSORS __attribute__((target("arch=x86-64-v4")))
inline bool isWideProcessor()
{
    return __builtin_cpu_supports("avx512f") && __builtin_cpu_supports("avx512vl") &&
           __builtin_cpu_supports("avx512dq") && __builtin_cpu_supports("avx512bw") &&
           __builtin_cpu_supports("avx512cd");
}
#else
#define GRISTLE_FOR_BOTH_PROCESSORS
#endif
