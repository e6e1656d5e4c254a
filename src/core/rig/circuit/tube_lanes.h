#pragma once

#include "core/rig/circuit/tube_table.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <memory>
#include <type_traits>
#include <utility>
#include <vector>

/// Inlined, so that it is made for the processor that its caller is made for.
#define GRISTLE_INLINED [[gnu::always_inline]] inline
#define GRISTLE_INLINED_HERE __attribute__((always_inline))

namespace gristle::core {

template<std::size_t wide> struct Vectors;
template<> struct Vectors<8> {
    typedef float Lane __attribute__((vector_size(32)));
    typedef float Half __attribute__((vector_size(16)));
    typedef double Doubles __attribute__((vector_size(32))); ///< of half a group
    typedef std::uint32_t Bits __attribute__((vector_size(32)));
    typedef long long Longs __attribute__((vector_size(32)));
};
template<> struct Vectors<16> {
    typedef float Lane __attribute__((vector_size(64)));
    typedef float Half __attribute__((vector_size(32)));
    typedef double Doubles __attribute__((vector_size(64)));
    typedef std::uint32_t Bits __attribute__((vector_size(64)));
    typedef long long Longs __attribute__((vector_size(64)));
};

/// Numbers of many circuits in a processor's registers, and a tube of each: TubeTable and TubePort for all of them. A
/// register takes so many numbers of single precision; the lanes in one are a group. What is held in single precision
/// is counted from rest, so that little is rounded. For circuit_batch.cpp alone.
template<std::size_t wide, std::size_t lanes> struct Registers {
    static constexpr std::size_t kGroups = lanes / wide, kHalf = wide / 2;
    using Lane = typename Vectors<wide>::Lane;
    using Doubles = typename Vectors<wide>::Doubles;

    struct Two { ///< of grid and plate
        Lane grid{}, plate{};
    };

    /// Numbers out of two registers, those of the second counted on from those of the first. @tparam from  of each
    /// place
    template<int (*from)(int)> GRISTLE_INLINED static Lane mixed(const Lane& a, const Lane& b) noexcept
    {
        return [&]<std::size_t... i>(std::index_sequence<i...>) GRISTLE_INLINED_HERE
        {
            return __builtin_shufflevector(a, b, from(int(i))...);
        }
        (std::make_index_sequence<wide>{});
    }
    // A fourth of a register takes two powers of a lane, the next one the other two. Lanes stand in fours, some in
    // each half of a group; a register has one of each four of a half, so four registers have all of the half.
    static constexpr int kFours = wide / 8; ///< in each half
    template<int h> static constexpr int foursOf(int i) { return 4 * (kFours * h + i / 8) + i % 4; }
    template<int k> static constexpr int eachOf(int i) { return i / 4 * 4 + k; }
    static constexpr int low(int i) { return i / 4 * 4 + i % 4 / 2 + i % 2 * int(wide); }
    static constexpr int high(int i) { return low(i) + 2; }
    static constexpr int firsts(int i) { return i / 4 * 4 + i % 2 + i % 4 / 2 * int(wide); }
    static constexpr int lasts(int i) { return firsts(i) + 2; }
    static constexpr int lowPowers(int i) { return i / 4 * 8 + i % 4; }
    static constexpr int highPowers(int i) { return lowPowers(i) + 4; }
    /// Eight numbers from a place on, and eight from kHalfRow further on; in a register that takes them, eight more
    /// from another place each.
    GRISTLE_INLINED static void eights(const float* numbers, const std::uint32_t& place,
                                       [[maybe_unused]] const std::uint32_t& other, Lane& mids, Lane& slopes) noexcept
    {
        constexpr std::size_t kFurther = TubeCells::kHalf;
        if constexpr (wide == 8) {
            const float* from = numbers + 2 * (place - kWhole);
            std::memcpy(&mids, from, sizeof mids);
            std::memcpy(&slopes, from + kFurther, sizeof slopes);
        } else { // the compiler would load both and shuffle, and take addresses through registers of the wrong kind
            std::uintptr_t from, otherFrom;
            asm("movl %[place], %k[from]\n\t"
                "movl %[other], %k[otherFrom]\n\t"
                "vmovups (%[base],%[from],8), %t[mids]\n\t"
                "vmovups %c[further](%[base],%[from],8), %t[slopes]\n\t"
                "vinsertf32x8 $1, (%[base],%[otherFrom],8), %g[mids], %g[mids]\n\t"
                "vinsertf32x8 $1, %c[further](%[base],%[otherFrom],8), %g[slopes], %g[slopes]"
                : [mids] "=&v"(mids), [slopes] "=&v"(slopes), [from] "=&r"(from), [otherFrom] "=&r"(otherFrom)
                : [base] "r"(reinterpret_cast<std::uintptr_t>(numbers) - 8ull * kWhole), [place] "m"(place),
                  [other] "m"(other), [further] "i"(sizeof(float) * kFurther),
                  "m"(*reinterpret_cast<const float(*)[kNumbers]>(numbers)));
        }
    }
    // Added to kRounds, a number is rounded to a whole one, whose last bits say which: quicker than a conversion. A
    // place is such a pattern, in pairs of numbers.
    static constexpr float kRounds = 12582912.0f; // 1.5 * 2^23
    static constexpr std::uint32_t kWhole = std::bit_cast<std::uint32_t>(kRounds);
    static constexpr std::size_t kCell = sizeof(TubeCells::Cell) / sizeof(float) / 2; ///< pairs
    static constexpr std::size_t kNumbers = 2 * kCell * TubeTable::kColumns * TubeTable::kRows;
    static_assert(kNumbers / 2 < 1u << 22, "so many are added to kRounds exactly");
    // A limit out of memory for all lanes at once: the compiler would add it to nothing first.
    /// Whether one lane reaches it.
    GRISTLE_INLINED static bool anyReaches(const Lane& a, const float& limit) noexcept
    {
        if constexpr (wide == 16) {
            bool isAny;
            asm("vcmpps $13, %2%{1to16%}, %1, %%k1\n\tkortestw %%k1, %%k1"
                : "=@ccnz"(isAny)
                : "v"(a), "m"(limit)
                : "k1");
            return isAny;
        } else {
            const auto bits = std::bit_cast<typename Vectors<wide>::Longs>(a >= limit);
            long long isAny = 0;
            for (std::size_t i = 0; i < kHalf; ++i) isAny |= bits[i];
            return isAny != 0;
        }
    }
    /// The limit where it is more, or where `a` is no number.
    GRISTLE_INLINED static Lane atLeast(const Lane& a, const float& limit) noexcept
    {
        if constexpr (wide == 16) {
            Lane out;
            asm("vmaxps %2%{1to16%}, %1, %0" : "=v"(out) : "v"(a), "m"(limit));
            return out;
        } else {
            const Lane other = limit + Lane{};
            return a > other ? a : other;
        }
    }
    GRISTLE_INLINED static Lane atMost(const Lane& a, const float& limit) noexcept
    {
        if constexpr (wide == 16) {
            Lane out;
            asm("vminps %2%{1to16%}, %1, %0" : "=v"(out) : "v"(a), "m"(limit));
            return out;
        } else {
            const Lane other = limit + Lane{};
            return a < other ? a : other;
        }
    }
    GRISTLE_INLINED static Lane least(const Lane& a, const Lane& b) noexcept
    {
        Lane out;
        if constexpr (wide == 16) {
            asm("vminps %2, %1, %0" : "=v"(out) : "v"(a), "v"(b));
            return out;
        } else
            return a < b ? a : b;
    }
    /// To some last digit or two.
    GRISTLE_INLINED static Lane quotient(const Lane& a, const Lane& b) noexcept
    {
        if constexpr (wide == 8) {
            return a / b;
        } else { // the processor's guess and one step of Newton's, a third of the work
            Lane guess;
            asm("vrcp14ps %1, %0" : "=v"(guess) : "v"(b));
            const Lane first = a * guess;
            return first + first * (1.0f - b * guess);
        }
    }
    GRISTLE_INLINED static Lane sizeOf(const Lane& a) noexcept
    {
        return std::bit_cast<Lane>(std::bit_cast<typename Vectors<wide>::Bits>(a) & 0x7fffffffu);
    }
    /// As many registers as they have numbers: rows into columns.
    GRISTLE_INLINED static void turn(Lane* x) noexcept
    {
        const auto across = [&]<std::size_t by>() GRISTLE_INLINED_HERE {
            for (std::size_t i = 0; i < wide; ++i)
                if ((i & by) == 0) {
                    const Lane a = x[i], b = x[i + by];
                    x[i] = mixed<firstOf<by>>(a, b);
                    x[i + by] = mixed<secondOf<by>>(a, b);
                }
        };
        across.template operator()<1>(), across.template operator()<2>(), across.template operator()<4>();
        if constexpr (wide == 16) across.template operator()<8>();
    }
    template<std::size_t by> static constexpr int firstOf(int i) { return i & int(by) ? int(wide - by) + i : i; }
    template<std::size_t by> static constexpr int secondOf(int i) { return i & int(by) ? int(wide) + i : int(by) + i; }
    /// One half of a register, out of memory.
    GRISTLE_INLINED static Doubles doubled(const Lane* of, std::size_t half) noexcept
    {
        using Half = typename Vectors<wide>::Half;
        const Half* from = reinterpret_cast<const Half*>(of) + half;
        if constexpr (wide == 8) {
            Half out;
            std::memcpy(&out, from, sizeof out);
            return __builtin_convertvector(out, Doubles);
        } else { // the compiler would do so by halves
            Doubles out;
            asm("vcvtps2pd %1, %0" : "=v"(out) : "m"(*reinterpret_cast<const float(*)[kHalf]>(from)));
            return out;
        }
    }
    GRISTLE_INLINED static Lane single(const Doubles& first, const Doubles& second) noexcept
    {
        if constexpr (wide == 8) {
            using Half = typename Vectors<wide>::Half;
            const Half a = __builtin_convertvector(first, Half), b = __builtin_convertvector(second, Half);
            return [&]<std::size_t... i>(std::index_sequence<i...>) GRISTLE_INLINED_HERE
            {
                return __builtin_shufflevector(a, b, int(i)...);
            }
            (std::make_index_sequence<wide>{});
        } else {
            Lane out, other;
            asm("vcvtpd2ps %g[first], %t[out]\n\tvcvtpd2ps %g[second], %t[other]\n\t"
                "vinsertf32x8 $1, %t[other], %g[out], %g[out]"
                : [out] "=&v"(out), [other] "=&v"(other)
                : [first] "v"(first), [second] "v"(second));
            return out;
        }
    }

    /// Numbers of every lane, of each number its registers, on the places that those want.
    template<typename V> class Store {
    public:
        static constexpr std::size_t kEach = sizeof(V) / sizeof(V{}[0]), kRegisters = lanes / kEach;
        explicit Store(std::size_t numbers) : places_(kRegisters * numbers) {}
        V* data() noexcept { return reinterpret_cast<V*>(places_.data()); }
        const V* data() const noexcept { return reinterpret_cast<const V*>(places_.data()); }
        V* operator[](std::size_t number) noexcept { return data() + kRegisters * number; }
        double get(std::size_t number, std::size_t lane) const noexcept
        {
            return double(places_[kRegisters * number + lane / kEach].of[lane % kEach]);
        }
        void set(std::size_t number, std::size_t lane, double to) noexcept
        {
            auto& place = places_[kRegisters * number + lane / kEach].of;
            place[lane % kEach] = std::remove_reference_t<decltype(place[0])>(to);
        }
        void swap(Store& other) noexcept { places_.swap(other.places_); }

    private:
        struct alignas(sizeof(V)) Place {
            V of{};
        };
        std::vector<Place> places_;
    };

    /// Rows of a matrix times some numbers of each lane, in twelve sums at a time: fewer would wait for each other.
    /// @tparam V  Lane or Doubles
    template<typename V> class Rows {
    public:
        /// @param matrix  of rows as long as `columns`
        Rows(const std::vector<std::vector<double>>& matrix, std::size_t columns) : columns_(columns)
        {
            for (std::size_t high = 0; size_ < matrix.size(); size_ += high) {
                const std::size_t left = matrix.size() - size_;
                high = left > kMid ? kHigh : left > kLow ? kMid : kLow;
                (high == kHigh ? highs_ : high == kMid ? mids_ : lows_) += 1;
                for (std::size_t column = 0; column < columns; ++column)
                    for (std::size_t r = size_; r < size_ + high; ++r)
                        values_.push_back(r < matrix.size() ? Number(matrix[r][column]) : Number());
            }
        }
        std::size_t size() const noexcept { return size_; } ///< of the result, padded
        GRISTLE_INLINED void times(const V* numbers, V* out) const noexcept
        {
            const Number* value = values_.data();
            for (std::size_t i = 0; i < highs_; ++i) block<kHigh, 1>(numbers, value, out);
            for (std::size_t i = 0; i < mids_; ++i) block<kMid, 2>(numbers, value, out);
            for (std::size_t i = 0; i < lows_; ++i) block<kLow, kHigh / kLow>(numbers, value, out);
        }

    private:
        using Number = std::remove_reference_t<decltype(V{}[0])>;
        static constexpr std::size_t kRegisters = Store<V>::kRegisters, kHigh = 12 / kRegisters, kLow = kHigh / 3,
                                     kMid = 2 * kLow;
        /// @tparam sums  so many columns are summed up apart
        template<std::size_t high, std::size_t sums>
        GRISTLE_INLINED void block(const V* numbers, const Number*& value, V*& out) const noexcept
        {
            V sum[sums][kRegisters * high]{};
            const auto take = [&](const V* n, V* to) GRISTLE_INLINED_HERE {
                for (std::size_t r = 0; r < high; ++r, ++value)
                    for (std::size_t g = 0; g < kRegisters; ++g) to[kRegisters * r + g] += n[g] * *value;
            };
            std::size_t column = 0;
            for (; column + sums <= columns_; column += sums, numbers += kRegisters * sums)
                for (std::size_t i = 0; i < sums; ++i) take(numbers + kRegisters * i, sum[i]);
            for (; column < columns_; ++column, numbers += kRegisters) take(numbers, sum[0]);
            for (std::size_t i = 0; i < kRegisters * high; ++i) {
                for (std::size_t other = 1; other < sums; ++other) sum[0][i] += sum[other][i];
                *out++ = sum[0][i];
            }
        }
        std::size_t columns_, size_ = 0, highs_ = 0, mids_ = 0, lows_ = 0;
        std::vector<Number> values_; ///< of some rows after the other, those of each column
    };

    /// Where a tube stands, from rest: how far its grid is off the middle between the lines, to the side where it
    /// rests, and its plate in rows; see TubeTable::Lines. Half way between two of them is half way.
    struct Spot {
        Lane off{}, row{};
    };

    /// A tube's table, with places counted from that at rest: the less there is to hear, the finer they are.
    class Table {
    public:
        /// @param grid, plate  volts at rest
        Table(const TubeTable& table, double grid, double plate) : cells_(std::make_shared<TubeCells>(table))
        {
            const TubeTable::Lines& l = table.lines();
            const double by = grid - l.middle - l.middleLean * plate,
                         half = std::max(TubeTable::kLeastHalfV, l.half + l.halfLean * plate),
                         scale = TubeTable::kScale / (std::abs(by) + half);
            const double x = TubeTable::kMiddle + scale * by, y = (plate - l.low) * l.perVolt;
            lean_ = l.middleLean, perVolt_ = l.perVolt, side_ = by < 0.0 ? -1.0 : 1.0;
            perColumn_ = float(l.perColumn), perRow_ = float(l.perRow);
            bentA_ = float(table.bentA());
            by_ = float(std::abs(by)), half_ = float(half), leastHalf_ = float(TubeTable::kLeastHalfV - half);
            wider_ = float(l.halfLean / l.perVolt);
            perOff_ = float(side_ * scale * half), perHalf_ = float(scale * by), across_ = float(2.0 * scale * by);
            x_ = float(x - std::floor(x) - 0.5), y_ = float(y - std::floor(y) - 0.5);
            leastX_ = float(TubeTable::kEdge - x), mostX_ = float(TubeTable::kColumns - 1 - TubeTable::kEdge - x);
            leastY_ = float(TubeTable::kEdge - y), mostY_ = float(TubeTable::kRows - 1 - TubeTable::kEdge - y);
            from_ = float(kCell) * float(TubeTable::kColumns * std::floor(y) + std::floor(x)) + kRounds;
        }
        /// Volts from rest as a Spot, and back.
        double offOf(double grid, double plate) const noexcept { return side_ * (grid - lean_ * plate); }
        double rowOf(double plate) const noexcept { return perVolt_ * plate; }
        double plateOf(double row) const noexcept { return row / perVolt_; }
        double gridOf(double off, double row) const noexcept { return side_ * off + lean_ * plateOf(row); }
        /// So that nothing flows at rest.
        GRISTLE_INLINED void rest() noexcept
        {
            const Two at = read(Place(*this, {}));
            gridA_ = at.grid[0];
            plateA_ = at.plate[0];
        }
        const float& bentA() const noexcept { return bentA_; }
        /// At two places, the second of which is on its way while the first is waited for.
        GRISTLE_INLINED std::array<Two, 2> operator()(const Spot& a, const Spot& b) const noexcept
        {
            const Place first(*this, a), second(*this, b);
            return {read(first), read(second)};
        }

    private:
        struct Place {
            alignas(sizeof(Lane)) std::uint32_t from[wide];
            Lane along, across, onLine; ///< onLine: of the plate's current, from rest
            GRISTLE_INLINED Place(const Table& t, const Spot& spot) noexcept
            {
                const Lane half = atLeast(t.wider_ * spot.row, t.leastHalf_), // less that at rest
                    by = spot.off + t.by_, beyond = least(by, Lane{});
                // The difference of two such places, with nothing in it that is large and cancels.
                const Lane moved = (t.perOff_ * spot.off - t.perHalf_ * half) + t.across_ * beyond;
                // Limits that no quotient of such numbers reaches: for what is no number, or too large for one.
                const Lane quotientX = quotient(moved, sizeOf(by) + (half + t.half_)),
                           fromX = atMost(atLeast(quotientX, t.leastX_), t.mostX_),
                           fromY = atMost(atLeast(spot.row, t.leastY_), t.mostY_);
                onLine = t.perColumn_ * fromX + (t.perRow_ * fromY - t.plateA_);
                // Half a place low, so that rounding finds the place before.
                const Lane x = fromX + t.x_, y = fromY + t.y_, column = (x + kRounds) - kRounds,
                           row = (y + kRounds) - kRounds;
                const Lane at = (t.from_ + float(kCell * TubeTable::kColumns) * row) + float(kCell) * column;
                std::memcpy(from, &at, sizeof from);
                asm("" : "+m"(from)); // read from memory one by one, which is quicker than out of the register
                along = x - column, across = y - row;
            }
        };
        GRISTLE_INLINED Two read(const Place& place) const noexcept
        {
            const float* const numbers = cells_->cells()->numbers.data();
            Lane sums[2][2];
            const auto half = [&]<int h>() GRISTLE_INLINED_HERE {
                const Lane across = mixed<foursOf<h>>(place.across, place.across),
                           along = mixed<foursOf<h>>(place.along, place.along);
                const auto crossed = [&]<int k>() GRISTLE_INLINED_HERE {
                    constexpr int kPlace = 4 * kFours * h + k, kOther = kPlace + 4 * (kFours - 1);
                    Lane mids, slopes;
                    eights(numbers, place.from[kPlace], place.from[kOther], mids, slopes);
                    return mids + mixed<eachOf<k>>(across, across) * slopes;
                };
                const Lane a = crossed.template operator()<0>(), b = crossed.template operator()<1>(),
                           c = crossed.template operator()<2>(), d = crossed.template operator()<3>();
                // Four by four numbers turned: grid and plate of a power that is even, and of one that is odd.
                const Lane abEven = mixed<low>(a, b), abOdd = mixed<high>(a, b), cdEven = mixed<low>(c, d),
                           cdOdd = mixed<high>(c, d);
                sums[0][h] = mixed<firsts>(abEven, cdEven) + along * mixed<firsts>(abOdd, cdOdd);
                sums[1][h] = mixed<lasts>(abEven, cdEven) + along * mixed<lasts>(abOdd, cdOdd);
            };
            half.template operator()<0>(), half.template operator()<1>();
            const Lane square = place.along * place.along;
            const auto sumOf = [&](const Lane* of) GRISTLE_INLINED_HERE {
                return mixed<lowPowers>(of[0], of[1]) + square * mixed<highPowers>(of[0], of[1]);
            };
            return {sumOf(sums[0]) - gridA_, sumOf(sums[1]) + place.onLine};
        }

        std::shared_ptr<const TubeCells> cells_;
        double lean_, perVolt_, side_; ///< side_: -1 where the grid rests below the middle
        // At rest: how far off the middle between the lines, half of what is between them; see TubeTable::Lines.
        float by_, half_, leastHalf_, wider_, perOff_, perHalf_, across_, perColumn_, perRow_;
        float x_, y_;                           ///< parts of a column and a row, less half of one
        float leastX_, mostX_, leastY_, mostY_; ///< how far columns and rows reach from there
        float from_;                            ///< its place among the numbers, in pairs of them, and kRounds
        float bentA_;
        float gridA_ = 0.0f, plateA_ = 0.0f; ///< what it says at rest
    };

    /// As TubePort, of a group.
    struct alignas(sizeof(Lane)) Port {
        Spot spot;
        Two now;
        Two less; ///< TubePort::past, less than nothing

        /// The currents.
        GRISTLE_INLINED Two step(const Table& table, const Spot& to) noexcept
        {
            const Spot middle = middleOf(spot, to);
            const auto [end, half] = table(to, middle);
            Two out, next;
            const auto straight = [&](Lane Two::*of) GRISTLE_INLINED_HERE { // by Simpson's rule
                const Lane ends = 0.5f * end.*of, bent = half.*of - 0.5f * (now.*of + end.*of);
                out.*of = (ends - less.*of) + half.*of;
                next.*of = ends + (1.0f / 3.0f) * bent;
                return sizeOf(bent);
            };
            const Lane bent = straight(&Two::grid) + straight(&Two::plate);
            if (anyReaches(bent, table.bentA())) {
                const auto isBent = bent >= table.bentA();
                const auto [early, late] = table(middleOf(spot, middle), middleOf(middle, to));
                const auto quarters = [&](Lane Two::*of) GRISTLE_INLINED_HERE {
                    constexpr float kPart = 1.0f / 96.0f;
                    const Lane o = kPart * ((42.0f * early.*of + 36.0f * half.*of) +
                                            (30.0f * late.*of + 45.0f * end.*of) - 9.0f * now.*of) -
                                   less.*of;
                    const Lane p = kPart * ((18.0f * early.*of + 12.0f * half.*of) +
                                            (6.0f * late.*of + 33.0f * end.*of) - 21.0f * now.*of);
                    out.*of = isBent ? o : out.*of;
                    next.*of = isBent ? p : next.*of;
                };
                quarters(&Two::grid), quarters(&Two::plate);
            }
            less = next, now = end, spot = to;
            return out;
        }

    private:
        GRISTLE_INLINED static Spot middleOf(const Spot& a, const Spot& b) noexcept
        {
            return {0.5f * (a.off + b.off), 0.5f * (a.row + b.row)};
        }
    };
};

} // namespace gristle::core
