#pragma once

#include "core/rig/circuit/tube_table.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstdint>
#include <cstring>
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
/// is counted from rest, so that little is rounded. For circuits_abreast.cpp alone.
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
    // A fourth of a register takes two columns of a lane, the next one the other two. Lanes stand in fours, some in
    // each half of a group; a register has one of each four of a half, so four registers have all of the half.
    static constexpr int kFours = wide / 8; ///< in each half
    template<int h> static constexpr int foursOf(int i) { return 4 * (kFours * h + i / 8) + i % 4; }
    template<int h, int k> static constexpr int eachOf(int i) { return 4 * (kFours * h + i / 8) + k; }
    static constexpr int low(int i) { return i / 4 * 4 + i % 4 / 2 + i % 2 * int(wide); }
    static constexpr int high(int i) { return low(i) + 2; }
    static constexpr int firsts(int i) { return i / 4 * 4 + i % 2 + i % 4 / 2 * int(wide); }
    static constexpr int lasts(int i) { return firsts(i) + 2; }
    static constexpr int firstColumns(int i) { return i / 4 * 8 + i % 4; }
    static constexpr int lastColumns(int i) { return firstColumns(i) + 4; }
    template<std::size_t first> GRISTLE_INLINED static Doubles doubled(const Lane& x) noexcept
    {
        return [&]<std::size_t... i>(std::index_sequence<i...>) GRISTLE_INLINED_HERE
        {
            return __builtin_convertvector(__builtin_shufflevector(x, x, int(first + i)...), Doubles);
        }
        (std::make_index_sequence<kHalf>{});
    }
    GRISTLE_INLINED static Lane single(const Doubles& first, const Doubles& second) noexcept
    {
        using Half = typename Vectors<wide>::Half;
        const Half a = __builtin_convertvector(first, Half), b = __builtin_convertvector(second, Half);
        return [&]<std::size_t... i>(std::index_sequence<i...>) GRISTLE_INLINED_HERE
        {
            return __builtin_shufflevector(a, b, int(i)...);
        }
        (std::make_index_sequence<wide>{});
    }

    /// Numbers of every lane, of each number its registers, on the places that those want.
    template<typename V> class Store {
    public:
        static constexpr std::size_t kEach = sizeof(V) / sizeof(V{}[0]), kRegisters = lanes / kEach;
        explicit Store(std::size_t numbers) : places_(kRegisters * numbers) {}
        V* data() noexcept { return &places_[0].of; }
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

    /// Rows of a matrix times some numbers of each lane, a few rows at a time in registers. @tparam V  Lane or Doubles
    template<typename V> class Rows {
    public:
        /// @param rows, columns  which of them
        Rows(const std::vector<std::vector<double>>& matrix, const std::vector<std::size_t>& rows,
             const std::vector<std::size_t>& columns)
            : columns_(columns.size()), size_((rows.size() + kHigh - 1) / kHigh * kHigh)
        {
            for (std::size_t at = 0; at < size_; at += kHigh)
                for (const std::size_t column : columns)
                    for (std::size_t r = at; r < at + kHigh; ++r)
                        values_.push_back(r < rows.size() ? Number(matrix[rows[r]][column]) : Number());
        }
        std::size_t size() const noexcept { return size_; } ///< of the result, padded
        GRISTLE_INLINED void times(const V* numbers, V* out) const noexcept
        {
            const Number* value = values_.data();
            for (V* const end = out + kRegisters * size_; out < end; out += kRegisters * kHigh) {
                V sum[kRegisters * kHigh]{};
                for (const V* n = numbers; n < numbers + kRegisters * columns_; n += kRegisters)
                    for (std::size_t r = 0; r < kHigh; ++r, ++value)
                        for (std::size_t g = 0; g < kRegisters; ++g) sum[kRegisters * r + g] += n[g] * *value;
                for (std::size_t r = 0; r < kRegisters * kHigh; ++r) out[r] = sum[r];
            }
        }

    private:
        using Number = std::remove_reference_t<decltype(V{}[0])>;
        static constexpr std::size_t kRegisters = Store<V>::kRegisters, kHigh = 8 / kRegisters;
        std::size_t columns_, size_;
        std::vector<Number> values_; ///< of kHigh rows after the other, those of each column
    };

    /// A tube's table, with places counted from that at rest: the less there is to hear, the finer they are.
    class Table {
    public:
        /// @param grid, plate  volts at rest
        Table(const TubeTable& table, double grid, double plate) : table_(&table)
        {
            const TubeTable::Lines& l = table.lines();
            const double by = grid - l.middle - l.middleLean * plate,
                         half = std::max(TubeTable::kLeastHalfV, l.half + l.halfLean * plate),
                         scale = TubeTable::kScale / (std::abs(by) + half);
            const double x = TubeTable::kMiddle + scale * by, y = (plate - l.low) * l.perVolt;
            lean_ = float(l.middleLean), halfLean_ = float(l.halfLean), perVolt_ = float(l.perVolt);
            perColumn_ = float(l.perColumn), perRow_ = float(l.perRow);
            by_ = float(by), half_ = float(half), leastHalf_ = float(TubeTable::kLeastHalfV - half);
            perBy_ = float(scale * half), perHalf_ = float(scale * by), across_ = float(2.0 * scale * by);
            x_ = float(x - std::floor(x) - 0.5), y_ = float(y - std::floor(y) - 0.5);
            leastY_ = float(TubeTable::kEdge - y), mostY_ = float(TubeTable::kRows - 1 - TubeTable::kEdge - y);
            column_ = std::uint32_t(std::floor(x)) - std::bit_cast<std::uint32_t>(kRounds);
            row_ = std::uint32_t(std::floor(y)) - std::bit_cast<std::uint32_t>(kRounds);
        }
        /// So that nothing flows at rest.
        GRISTLE_INLINED void rest() noexcept
        {
            const Two at = read(Place(*this, {}));
            gridA_ = at.grid[0];
            plateA_ = at.plate[0];
        }
        /// At two places, the second of which is on its way while the first is waited for.
        GRISTLE_INLINED std::array<Two, 2> operator()(const Two& a, const Two& b) const noexcept
        {
            const Place first(*this, a), second(*this, b);
            return {read(first), read(second)};
        }

    private:
        struct Place {
            alignas(sizeof(Lane)) std::uint32_t from[wide];
            Lane along, across, onLine; ///< onLine: of the plate's current, from rest
            GRISTLE_INLINED Place(const Table& t, const Two& volts) noexcept
            {
                using Bits = typename Vectors<wide>::Bits;
                const Lane off = volts.grid - t.lean_ * volts.plate, wider = t.halfLean_ * volts.plate,
                           half = wider > t.leastHalf_ ? wider : t.leastHalf_ + Lane{}; // less that at rest
                const Lane by = off + t.by_, size = by < 0.0f ? -by : by;
                // The difference of two such places, with nothing in it that is large and cancels.
                const Lane sameSide = t.perBy_ * off - t.perHalf_ * half,
                           moved =
                               by * t.by_ < 0.0f ? sameSide + by * (t.by_ < 0.0f ? -t.across_ : t.across_) : sameSide;
                // Half a place low, so that rounding finds the place before. Added to kRounds, a number is rounded to a
                // whole one, whose last bits say which: quicker than a conversion.
                const Lane fromX = moved / (size + (half + t.half_)), wish = t.perVolt_ * volts.plate,
                           high = wish > t.leastY_ ? wish : t.leastY_ + Lane{},
                           fromY = high < t.mostY_ ? high : t.mostY_ + Lane{}, x = fromX + t.x_, y = fromY + t.y_;
                onLine = t.perColumn_ * fromX + t.perRow_ * fromY;
                const Lane column = x + kRounds, row = y + kRounds;
                const Bits columns = (std::bit_cast<Bits>(column) + t.column_) & (TubeTable::kColumns - 1),
                           rows = (std::bit_cast<Bits>(row) + t.row_) & (TubeTable::kRows - 1),
                           at = rows * std::uint32_t(TubeTable::kRow) + 2 * columns;
                std::memcpy(from, &at, sizeof from);
                asm("" : "+m"(from)); // read from memory one by one, which is quicker than out of the register
                along = (x - (column - kRounds)) + 0.5f, across = (y - (row - kRounds)) + 0.5f;
            }
        };
        GRISTLE_INLINED Two read(const Place& place) const noexcept
        {
            Lane sums[2][2];
            const auto half = [&]<int h>() GRISTLE_INLINED_HERE {
                const auto crossed = [&]<int k>() GRISTLE_INLINED_HERE {
                    Lane row, next;
                    if constexpr (kFours == 1) {
                        table_->rowsAt(place.from[4 * h + k], row, next);
                    } else {
                        TubeTable::Eight rows[2], nexts[2];
                        table_->rowsAt(place.from[8 * h + k], rows[0], nexts[0]);
                        table_->rowsAt(place.from[8 * h + 4 + k], rows[1], nexts[1]);
                        const auto both = [](const auto& x) GRISTLE_INLINED_HERE {
                            return __builtin_shufflevector(x[0], x[1], 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14,
                                                           15);
                        };
                        row = both(rows), next = both(nexts);
                    }
                    return row + mixed<eachOf<h, k>>(place.across, place.across) * (next - row);
                };
                const Lane a = crossed.template operator()<0>(), b = crossed.template operator()<1>(),
                           c = crossed.template operator()<2>(), d = crossed.template operator()<3>();
                // Four by four numbers turned: grid and plate of a column that is even, and of one that is odd.
                const Lane abEven = mixed<low>(a, b), abOdd = mixed<high>(a, b), cdEven = mixed<low>(c, d),
                           cdOdd = mixed<high>(c, d);
                Lane even, odd;
                TubeTable::weights(mixed<foursOf<h>>(place.along, place.along), even, odd);
                sums[0][h] = mixed<firsts>(abEven, cdEven) * even + mixed<firsts>(abOdd, cdOdd) * odd;
                sums[1][h] = mixed<lasts>(abEven, cdEven) * even + mixed<lasts>(abOdd, cdOdd) * odd;
            };
            half.template operator()<0>(), half.template operator()<1>();
            const auto sumOf = [&](const Lane* of) GRISTLE_INLINED_HERE {
                return mixed<firstColumns>(of[0], of[1]) + mixed<lastColumns>(of[0], of[1]);
            };
            return {sumOf(sums[0]) - gridA_, (sumOf(sums[1]) - plateA_) + place.onLine};
        }

        const TubeTable* table_;
        static constexpr float kRounds = 12582912.0f; // 1.5 * 2^23
        // At rest: how far off the middle between the lines, half of what is between them; see TubeTable::Lines.
        float lean_, halfLean_, perVolt_, by_, half_, leastHalf_, perBy_, perHalf_, across_, perColumn_, perRow_;
        float x_, y_, leastY_, mostY_; ///< parts of a column and a row, less half of one; how far rows reach from there
        std::uint32_t column_, row_;   ///< less the bits of kRounds
        float gridA_ = 0.0f, plateA_ = 0.0f; ///< what it says at rest
    };

    /// As TubePort, of a group.
    struct alignas(sizeof(Lane)) Port {
        Two volts, now, before, line;

        /// The currents.
        GRISTLE_INLINED Two step(const Table& table, const Two& to) noexcept
        {
            constexpr float kBentA = 1e-5f;
            const auto middleOf = [](const Two& a, const Two& b) GRISTLE_INLINED_HERE {
                return Two{0.5f * (a.grid + b.grid), 0.5f * (a.plate + b.plate)};
            };
            const Two middle = middleOf(volts, to);
            const auto [end, half] = table(to, middle);
            const auto bentBy = [](const Lane& from, const Lane& at, const Lane& next) GRISTLE_INLINED_HERE {
                const Lane by = at - 0.5f * (from + next);
                return by < 0.0f ? -by : by;
            };
            const auto isBent =
                bentBy(now.grid, half.grid, end.grid) + bentBy(now.plate, half.plate, end.plate) >= kBentA;
            Two out, nextLine;
            straight(now.grid, before.grid, line.grid, half.grid, end.grid, out.grid, nextLine.grid);
            straight(now.plate, before.plate, line.plate, half.plate, end.plate, out.plate, nextLine.plate);
            const auto bits = std::bit_cast<typename Vectors<wide>::Longs>(isBent);
            long long isAny = 0;
            for (std::size_t i = 0; i < kHalf; ++i) isAny |= bits[i];
            if (isAny) {
                const auto [early, late] = table(middleOf(volts, middle), middleOf(middle, to));
                const auto quarters = [&](Lane Two::*of) GRISTLE_INLINED_HERE {
                    constexpr float kThird = 1.0f / 3.0f, kPart = 1.0f / 96.0f;
                    const Lane o = (line.*of + kThird * before.*of) +
                                   kPart * ((42.0f * early.*of + 36.0f * half.*of) +
                                            (30.0f * late.*of + 45.0f * end.*of) - 41.0f * now.*of);
                    const Lane l = -kPart * ((18.0f * early.*of + 12.0f * half.*of) + (6.0f * late.*of + end.*of) +
                                             11.0f * now.*of);
                    out.*of = isBent ? o : out.*of;
                    nextLine.*of = isBent ? l : nextLine.*of;
                };
                quarters(&Two::grid), quarters(&Two::plate);
            }
            before = now, now = end, line = nextLine, volts = to;
            return out;
        }

    private:
        /// By Simpson's rule.
        GRISTLE_INLINED static void straight(const Lane& now, const Lane& before, const Lane& line, const Lane& half,
                                             const Lane& end, Lane& out, Lane& nextLine) noexcept
        {
            constexpr float kThird = 1.0f / 3.0f, kSixth = 1.0f / 6.0f;
            out = ((line + kThird * (before - now)) + 0.5f * end) + half;
            nextLine = -kSixth * now - kThird * half;
        }
    };
};

} // namespace gristle::core
