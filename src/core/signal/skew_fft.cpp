#include "core/signal/skew_fft.h"

#include "core/units/vectorised.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

/// Eight complex numbers.
struct Eight {
    FloatLane re, im;
};
[[gnu::always_inline]] inline void read(Eight& x, const float* re, const float* im) { load(x.re, re), load(x.im, im); }
[[gnu::always_inline]] inline void write(const Eight& x, float* re, float* im)
{
    std::memcpy(re, &x.re, sizeof x.re);
    std::memcpy(im, &x.im, sizeof x.im);
}
/// Turned by an angle whose cosine and sine are given, of one number or of eight.
template<typename Value> [[gnu::always_inline]] inline void turn(Eight& x, const Value& re, const Value& im)
{
    x = {x.re * re - x.im * im, x.re * im + x.im * re};
}
template<typename Value> [[gnu::always_inline]] inline void turnBack(Eight& x, const Value& re, const Value& im)
{
    x = {x.re * re + x.im * im, x.im * re - x.re * im};
}
[[gnu::always_inline]] inline Eight operator+(const Eight& a, const Eight& b) { return {a.re + b.re, a.im + b.im}; }
[[gnu::always_inline]] inline Eight operator-(const Eight& a, const Eight& b) { return {a.re - b.re, a.im - b.im}; }
[[gnu::always_inline]] inline Eight timesI(const Eight& x) { return {-x.im, x.re}; }
[[gnu::always_inline]] inline Eight swapped(const Eight& x) { return {x.im, x.re}; }

/// x_j to the sum over q of x_q e^(2 pi i j q / 4).
[[gnu::always_inline]] inline void dft(Eight& x0, Eight& x1, Eight& x2, Eight& x3)
{
    const Eight even = x0 + x2, evenLess = x0 - x2, odd = x1 + x3, oddLess = timesI(x1 - x3);
    x0 = even + odd, x1 = evenLess + oddLess, x2 = even - odd, x3 = evenLess - oddLess;
}
/// The same of eight.
[[gnu::always_inline]] inline void dft(Eight (&x)[8])
{
    constexpr float kHalfRoot = 0.70710678f;
    dft(x[0], x[2], x[4], x[6]);
    dft(x[1], x[3], x[5], x[7]);
    const Eight odd[4]{x[1],
                       {(x[3].re - x[3].im) * kHalfRoot, (x[3].re + x[3].im) * kHalfRoot},
                       timesI(x[5]),
                       {(x[7].re + x[7].im) * -kHalfRoot, (x[7].re - x[7].im) * kHalfRoot}};
    const Eight even[4]{x[0], x[2], x[4], x[6]};
    for (std::size_t i = 0; i < 4; ++i) x[i] = even[i] + odd[i], x[i + 4] = even[i] - odd[i];
}
/// The same with the exponent's sign turned.
[[gnu::always_inline]] inline void dftBack(Eight (&x)[8])
{
    for (Eight& v : x) v = swapped(v);
    dft(x);
    for (Eight& v : x) v = swapped(v);
}

/// Eight rows of eight to eight columns.
[[gnu::always_inline]] inline void transpose(FloatLane Eight::*part, Eight (&x)[8])
{
    FloatLane pairs[8], fours[8];
    for (std::size_t i = 0; i < 8; i += 2) {
        const FloatLane &a = x[i].*part, &b = x[i + 1].*part;
        pairs[i] = __builtin_shufflevector(a, b, 0, 8, 1, 9, 4, 12, 5, 13);
        pairs[i + 1] = __builtin_shufflevector(a, b, 2, 10, 3, 11, 6, 14, 7, 15);
    }
    for (std::size_t i = 0; i < 8; i += 4)
        for (std::size_t j = 0; j < 2; ++j) {
            const FloatLane &a = pairs[i + j], &b = pairs[i + j + 2];
            fours[i + 2 * j] = __builtin_shufflevector(a, b, 0, 1, 8, 9, 4, 5, 12, 13);
            fours[i + 2 * j + 1] = __builtin_shufflevector(a, b, 2, 3, 10, 11, 6, 7, 14, 15);
        }
    for (std::size_t i = 0; i < 4; ++i) {
        x[i].*part = __builtin_shufflevector(fours[i], fours[i + 4], 0, 1, 2, 3, 8, 9, 10, 11);
        x[i + 4].*part = __builtin_shufflevector(fours[i], fours[i + 4], 4, 5, 6, 7, 12, 13, 14, 15);
    }
}

/// Where the eight bins of a row begin.
constexpr std::size_t rowAt(std::size_t row)
{
    return row * kFloatLane / SkewFft::kChunk * 2 * SkewFft::kChunk + row * kFloatLane % SkewFft::kChunk;
}

} // namespace

SkewFft::Powers::Powers(double angle)
{
    for (std::size_t q = 0; q < kParts; ++q)
        re[q] = float(std::cos(double(q) * angle)), im[q] = float(std::sin(double(q) * angle));
}

SkewFft::Leaf::Leaf(double angle)
{
    for (std::size_t q = 0; q < 8; ++q) {
        re[q] = float(std::cos(double(q) * angle / 8.0)), im[q] = float(std::sin(double(q) * angle / 8.0));
        for (std::size_t j = 0; j < 8; ++j) {
            const double each = angle / 8.0 + double(j) * std::numbers::pi / 4.0; // of the j-th eighth root
            eachRe[q][j] = float(std::cos(double(q) * each / 8.0));
            eachIm[q][j] = float(std::sin(double(q) * each / 8.0));
        }
    }
}

SkewFft::SkewFft(std::size_t length) : length_(length), re_(length), im_(length)
{
    std::vector<double> angles{std::numbers::pi / 2.0}; // of i
    for (std::size_t m = length; m > kLeaf; m /= kParts) {
        std::vector<double> roots;
        for (const double angle : angles)
            for (std::size_t r = 0; r < kParts; ++r) roots.push_back(angle / 4.0 + double(r) * std::numbers::pi / 2.0);
        for (const double angle : angles) powers_.emplace_back(angle / 4.0);
        angles.swap(roots);
    }
    for (const double angle : angles) leaves_.emplace_back(angle);
}

GRISTLE_VECTORISED
void SkewFft::evaluate(const Leaf& leaf, const float* re, const float* im, float* bins) noexcept
{
    Eight x[8];
    for (std::size_t q = 0; q < 8; ++q) {
        read(x[q], re + 8 * q, im + 8 * q);
        if (q > 0) turn(x[q], leaf.re[q], leaf.im[q]);
    }
    dft(x);
    transpose(&Eight::re, x);
    transpose(&Eight::im, x);
    for (std::size_t q = 1; q < 8; ++q) {
        Eight each;
        read(each, leaf.eachRe[q], leaf.eachIm[q]);
        turn(x[q], each.re, each.im);
    }
    dft(x);
    for (std::size_t row = 0; row < 8; ++row) write(x[row], bins + rowAt(row), bins + rowAt(row) + kChunk);
}

GRISTLE_VECTORISED
void SkewFft::interpolate(const Leaf& leaf, const float* bins, float* re, float* im) noexcept
{
    Eight x[8];
    for (std::size_t row = 0; row < 8; ++row) read(x[row], bins + rowAt(row), bins + rowAt(row) + kChunk);
    dftBack(x);
    for (std::size_t q = 1; q < 8; ++q) {
        Eight each;
        read(each, leaf.eachRe[q], leaf.eachIm[q]);
        turnBack(x[q], each.re, each.im);
    }
    transpose(&Eight::re, x);
    transpose(&Eight::im, x);
    dftBack(x);
    for (std::size_t q = 0; q < 8; ++q) {
        if (q > 0) turnBack(x[q], leaf.re[q], leaf.im[q]);
        write(x[q], re + 8 * q, im + 8 * q);
    }
}

GRISTLE_VECTORISED
void SkewFft::split(const Powers& powers, float* re, float* im, std::size_t length) noexcept
{
    const std::size_t part = length / kParts;
    for (std::size_t n = 0; n < part; n += kFloatLane) {
        Eight x[kParts];
        for (std::size_t q = 0; q < kParts; ++q) {
            read(x[q], re + n + q * part, im + n + q * part);
            if (q > 0) turn(x[q], powers.re[q], powers.im[q]);
        }
        dft(x[0], x[1], x[2], x[3]);
        for (std::size_t r = 0; r < kParts; ++r) write(x[r], re + n + r * part, im + n + r * part);
    }
}

GRISTLE_VECTORISED
void SkewFft::join(const Powers& powers, float* re, float* im, std::size_t length) noexcept
{
    const std::size_t part = length / kParts;
    for (std::size_t n = 0; n < part; n += kFloatLane) {
        Eight x[kParts];
        for (std::size_t r = 0; r < kParts; ++r) read(x[r], re + n + r * part, im + n + r * part);
        dft(x[0], x[3], x[2], x[1]); // the exponent's sign turned
        std::swap(x[1], x[3]);
        for (std::size_t q = 0; q < kParts; ++q) {
            if (q > 0) turnBack(x[q], powers.re[q], powers.im[q]);
            write(x[q], re + n + q * part, im + n + q * part);
        }
    }
}

void SkewFft::split(std::span<const float> before, std::span<const float> last) noexcept
{
    std::ranges::copy(before, re_.begin());
    std::ranges::copy(last, im_.begin());
    const Powers* powers = powers_.data();
    for (std::size_t m = length_; m > kLeaf; m /= kParts)
        for (std::size_t at = 0; at < length_; at += m) split(*powers++, &re_[at], &im_[at], m);
}

void SkewFft::evaluate(float* bins) noexcept
{
    for (std::size_t at = 0; at < length_; at += kLeaf)
        evaluate(leaves_[at / kLeaf], &re_[at], &im_[at], bins + 2 * at);
}

void SkewFft::interpolate(const float* bins) noexcept
{
    for (std::size_t at = 0; at < length_; at += kLeaf)
        interpolate(leaves_[at / kLeaf], bins + 2 * at, &re_[at], &im_[at]);
}

void SkewFft::join(std::span<float> last) noexcept
{
    const Powers* powers = powers_.data() + powers_.size();
    for (std::size_t m = kLeaf * kParts; m <= length_; m *= kParts)
        for (std::size_t end = length_; end > 0; end -= m) join(*--powers, &re_[end - m], &im_[end - m], m);
    std::ranges::copy(im_, last.begin());
}

} // namespace gristle::core
