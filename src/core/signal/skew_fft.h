#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

/// The transform of skew-circular convolution, whose products are those of real polynomials modulo x^2n + 1: what goes
/// beyond the end comes back at the start with its sign turned. For an overlap that is thrown away it does as well as
/// the circular one, and needs no bins at no frequency and at half the rate: two real lengths are one complex length,
/// the values at the n-th roots of i. Source: Nussbaumer, Fast Fourier Transform and Convolution Algorithms, 1981.
///
/// A polynomial modulo x^m - r is taken to those modulo x^(m/4) - each fourth root of r, and so on down to 64; these go
/// on by eighths in registers. The bins stand in the order that this gives. Its code and its tables are small, so that
/// a thread that is woken for each block finds little to fetch. Everything is computed in one order everywhere: the
/// same bits on every machine.
class SkewFft {
public:
    static constexpr std::size_t kChunk = 16; ///< bins side by side: real parts, then imaginary ones

    /// @param length  n: 64, 256, 1,024, ...; allocates
    explicit SkewFft(std::size_t length);
    // The transform of two lengths of samples to n bins, and the way back to the later length, times n. Each in two
    // halves that take about as long, so that no moment has a long one to do; nothing else may come between.
    void split(std::span<const float> before, std::span<const float> last) noexcept;
    void evaluate(float* bins) noexcept; ///< 2 n floats, in chunks
    void interpolate(const float* bins) noexcept;
    void join(std::span<float> last) noexcept;

private:
    static constexpr std::size_t kParts = 4, kLeaf = 64;
    /// The powers 0 to 3 of a root.
    struct Powers {
        float re[kParts], im[kParts];
        explicit Powers(double angle);
    };
    /// What 64 terms need: powers of the root's eighth root, and of the eighth root of each of those, side by side.
    struct Leaf {
        float re[8], im[8], eachRe[8][8], eachIm[8][8];
        explicit Leaf(double angle);
    };
    static void evaluate(const Leaf& leaf, const float* re, const float* im, float* bins) noexcept;
    static void interpolate(const Leaf& leaf, const float* bins, float* re, float* im) noexcept;
    static void split(const Powers& powers, float* re, float* im, std::size_t length) noexcept;
    static void join(const Powers& powers, float* re, float* im, std::size_t length) noexcept;

    std::size_t length_;
    std::vector<Powers> powers_; ///< of the fourth roots of those of what is split, the longest first
    std::vector<Leaf> leaves_;
    std::vector<float> re_, im_; ///< work
};

} // namespace gristle::core
