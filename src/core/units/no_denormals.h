#pragma once

namespace gristle::core {

/// While it lives, this thread takes numbers too small for their full digits (below 1e-38 in single precision) as none:
/// arithmetic with them takes many times as long, and what decays gets there. Where the processor knows no such mode,
/// nothing happens.
class NoDenormals {
public:
#if defined(__x86_64__) && defined(__GNUC__)
    NoDenormals() noexcept : before_(__builtin_ia32_stmxcsr()) { __builtin_ia32_ldmxcsr(before_ | kFlush | kAsZero); }
    ~NoDenormals() { __builtin_ia32_ldmxcsr(before_); }
#else
    NoDenormals() noexcept {}
    ~NoDenormals() {}
#endif
    NoDenormals(const NoDenormals&) = delete;
    NoDenormals& operator=(const NoDenormals&) = delete;

private:
#if defined(__x86_64__) && defined(__GNUC__)
    static constexpr unsigned kFlush = 0x8000, kAsZero = 0x0040; // of the control register
    unsigned before_;
#endif
};

} // namespace gristle::core
