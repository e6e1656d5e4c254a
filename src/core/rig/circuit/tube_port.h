#pragma once

#include "core/rig/circuit/tube_table.h"

#include <array>
#include <cstring>

namespace gristle::core {

/// A tube's port in time. Its current is a mean over the two straight lines that its voltages went along, under a
/// triangle that rises to the sample between: what folds from about the sampling rate comes with a double zero. A
/// triangle is late by a sample, which the weights here make up for to the second order; what a current that follows
/// its voltages straightly would still lack is a third of its second difference, which has a double zero, too, and is
/// added. So such a current is exact at any steepness, and a loop through the port no less stable than the circuit.
/// Source: Parker, Zavalishin and Le Bivic 2016, Reducing the aliasing of nonlinear waveshaping using continuous-time
/// convolution; Strang and Fix 1973 on zeros and what a kernel leaves alone. The integrals by Simpson's rule, where the
/// law bends by trapezoids in quarters, as a current of two voltages has no antiderivative in a table.
struct TubePort {
    using Two = std::array<double, 2>; ///< of grid and plate

    Two volts{};  ///< without the currents
    Two now{};    ///< the current there
    Two past{};   ///< what the lines before give to the next current
    Two offset{}; ///< what the table lacks at rest
};

/// The ports of two tubes, side by side in the widest register that most processors have: grid and plate of the one,
/// grid and plate of the other. All is inlined, so that it is made for the processor that its caller is made for.
class TubePair {
public:
    typedef double Four __attribute__((vector_size(32), aligned(32))); // processors without such registers want 16

    TubePair(const TubeTable& one, const TubeTable& other) : numbers_{one.numbers(), other.numbers()}
    {
        const TubeTable* const tables[]{&one, &one, &other, &other};
        for (int i = 0; i < 4; ++i) {
            const TubeTable::Lines& l = tables[i]->lines();
            middle_[i] = l.middle, middleLean_[i] = l.middleLean, half_[i] = l.half, halfLean_[i] = l.halfLean;
            low_[i] = l.low, perVolt_[i] = l.perVolt;
            column_[i] = TubeTable::kMiddle - l.column, row_[i] = l.row;
            perColumn_[i] = l.perColumn, perRow_[i] = l.perRow;
            bentA_[i] = tables[i]->bentA();
        }
    }
    /// @param which  0: the one, 1: the other
    TubePort get(std::size_t which) const noexcept
    {
        TubePort out;
        for (std::size_t i = 0; i < 2; ++i) {
            const std::size_t at = 2 * which + i;
            out.volts[i] = volts_[at], out.now[i] = now_[at], out.past[i] = past_[at], out.offset[i] = offset_[at];
        }
        return out;
    }
    void set(std::size_t which, const TubePort& to) noexcept
    {
        for (std::size_t i = 0; i < 2; ++i) {
            const std::size_t at = 2 * which + i;
            volts_[at] = to.volts[i], now_[at] = to.now[i], past_[at] = to.past[i], offset_[at] = to.offset[i];
        }
    }
    /// So that a circuit at rest stays there: the current now is what the law says.
    [[gnu::always_inline]] inline void rest() noexcept
    {
        Four here, again;
        lookUp(volts_, volts_, here, again);
        offset_ = now_ - here;
        past_ = -0.5 * now_;
    }
    /// What the currents are, less `expected`. The arithmetic of what is known before `to` stands apart: the next pair
    /// waits for this one.
    [[gnu::always_inline]] inline void step(const Four& expected, const Four& to, Four& out) noexcept
    {
        constexpr double kThird = 1.0 / 3.0, kSixth = 1.0 / 6.0;
        const Four known = (past_ - expected) + 1.5 * offset_, middle = 0.5 * (volts_ + to);
        Four end, half;
        lookUp(to, middle, end, half);
        out = (known + 0.5 * end) + half;
        const Four next = end + offset_, mid = half + offset_, bent = mid - 0.5 * (now_ + next);
        Four nextPast = kSixth * now_ - kThird * (mid + next);
        const Four size = Four(Bits(bent) & ~(1ull << 63)),
                   both = size + __builtin_shufflevector(size, size, 1, 0, 3, 2);
        const auto isBent = both >= bentA_;
        if ((isBent[0] | isBent[2]) != 0) [[unlikely]] { // by trapezoids in quarters
            const TubePair* self = this;
            asm("" : "+r"(self)); // so that no number is kept in case of need: there are too few registers
            Four first, third;
            self->lookUp(0.5 * (volts_ + middle), 0.5 * (middle + to), first, third);
            const Four early = first + offset_, late = third + offset_;
            constexpr double kPart = 1.0 / 96.0;
            const Four bentOut = (past_ - expected) +
                                 kPart * ((42.0 * early + 36.0 * mid) + (30.0 * late + 45.0 * next) - 9.0 * now_),
                       bentPast = kPart * ((21.0 * now_ - 18.0 * early - 12.0 * mid) - (6.0 * late + 33.0 * next));
            out = isBent ? bentOut : out;
            nextPast = isBent ? bentPast : nextPast;
        }
        past_ = nextPast, now_ = next, volts_ = to;
    }

private:
    typedef unsigned long long Bits __attribute__((vector_size(32))); ///< a vector cast to it keeps its bits
    typedef float Floats __attribute__((vector_size(16)));
    typedef float Eight __attribute__((vector_size(32)));
    static constexpr int columnOf(int i) { return i / 2; }

    /// The currents of both tubes at `a`, and at `b`. A plate's less that through its conductance, and less that at
    /// rest: see TubeTable.
    [[gnu::always_inline]] inline void lookUp(const Four& a, const Four& b, Four& atA, Four& atB) const noexcept
    {
        // Four places: the one tube's at a and at b, the other's.
        const Four grid = __builtin_shufflevector(a, b, 0, 4, 2, 6), plate = __builtin_shufflevector(a, b, 1, 5, 3, 7);
        const Four by = (grid - middle_) - middleLean_ * plate, half = half_ + halfLean_ * plate;
        constexpr double kLeast = TubeTable::kLeastHalfV, kFirst = TubeTable::kEdge,
                         kLast = TubeTable::kRows - 1 - TubeTable::kEdge;
        const Four size = Four(Bits(by) & ~(1ull << 63)), least = half > kLeast ? half : kLeast + Four{};
        const Four x = by * TubeTable::kScale / (size + least), y = (plate - low_) * perVolt_; // x from kMiddle on
        const Four low = y > kFirst ? y : kFirst + Four{}, held = low < kLast ? low : kLast + Four{};
        // Added to that, a number is rounded to a whole one, whose last bits say which: quicker than a conversion. Half
        // a place low, so that it is the place before.
        constexpr double kRounds = 6755399441055744.0, kHalfLow = TubeTable::kMiddle - 0.5; // 1.5 * 2^52
        static_assert(kHalfLow == 127.0, "whole, so that it can be added at once");
        const Four column = x + (kHalfLow + kRounds), lowRow = held - 0.5, row = lowRow + kRounds;
        const Bits columns = Bits(column) & (TubeTable::kColumns - 1ull), rows = Bits(row) & (TubeTable::kRows - 1ull),
                   from = rows * TubeTable::kRow + 2 * columns;
        const Floats alongs = __builtin_convertvector(x - (column - (kHalfLow + kRounds)), Floats),
                     acrosses = __builtin_convertvector(lowRow - (row - kRounds), Floats);
        const Four onLine = (x + column_) * perColumn_ + (held - row_) * perRow_, none{};
        Eight of[4];
        currents<0>(from, alongs, acrosses, of[0]), currents<1>(from, alongs, acrosses, of[1]);
        currents<2>(from, alongs, acrosses, of[2]), currents<3>(from, alongs, acrosses, of[3]);
        summed(of[0], of[2], atA);
        summed(of[1], of[3], atB);
        atA += __builtin_shufflevector(none, onLine, 0, 4, 2, 6);
        atB += __builtin_shufflevector(none, onLine, 0, 5, 2, 7);
    }
    /// At one place what each of four columns gives to both currents.
    template<int place>
    [[gnu::always_inline]] inline void currents(const Bits& from, const Floats& alongs, const Floats& acrosses,
                                                Eight& out) const noexcept
    {
        const float* const at = numbers_[place / 2] + from[place];
        Eight mid, slope, weight;
        std::memcpy(&mid, at, sizeof mid);
        std::memcpy(&slope, at + TubeTable::kHalfRow, sizeof slope);
        const Eight along =
                        __builtin_shufflevector(alongs, alongs, place, place, place, place, place, place, place, place),
                    across = __builtin_shufflevector(acrosses, acrosses, place, place, place, place, place, place,
                                                     place, place);
        TubeTable::weights<columnOf>(along, weight);
        out = weight * (mid + across * slope);
    }
    [[gnu::always_inline]] static inline void summed(const Eight& one, const Eight& other, Four& out) noexcept
    {
        const Eight two = __builtin_shufflevector(one, other, 0, 1, 2, 3, 8, 9, 10, 11) +
                          __builtin_shufflevector(one, other, 4, 5, 6, 7, 12, 13, 14, 15),
                    all = two + __builtin_shufflevector(two, two, 2, 3, 0, 1, 6, 7, 4, 5);
        typedef float Pair __attribute__((vector_size(8)));
        typedef double Two __attribute__((vector_size(16)));
        // By halves, as the compiler would go through memory otherwise.
        const Two a = __builtin_convertvector(Pair(__builtin_shufflevector(all, all, 0, 1)), Two),
                  b = __builtin_convertvector(Pair(__builtin_shufflevector(all, all, 4, 5)), Two);
        out = __builtin_shufflevector(a, b, 0, 1, 2, 3);
    }

    const float* numbers_[2];
    Four middle_, middleLean_, half_, halfLean_, low_, perVolt_, column_, row_, perColumn_, perRow_, bentA_;
    Four volts_{}, now_{}, past_{}, offset_{}; ///< see TubePort
};

} // namespace gristle::core
