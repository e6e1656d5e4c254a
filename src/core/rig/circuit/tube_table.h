#pragma once

#include "core/rig/circuit/tube.h"

#include <algorithm>
#include <array>
#include <memory>
#include <vector>

namespace gristle::core {

/// A tube together with the resistances that the rest of the circuit shows to it within one step: its currents as
/// functions of the two voltages that would stand at it without them. v = p + F i(v) is
/// solved when the table is made, so playing takes a look into it and no iteration. Source of the method: Borin, De
/// Poli and Rocchesso 2000, Elimination of delay-free loops in discrete-time models of nonlinear acoustic systems; Yeh,
/// Abel and Smith 2010.
class TubeTable {
public:
    /// What the currents (into the grid; into the plate, less that through its conductance) do to the voltages, ohms.
    using Loading = std::array<std::array<double, 2>, 2>;

    struct Spec {
        TubeLaw law;
        Loading loading;
        double plateS;        ///< the plate's own conductance that stands in the linear circuit, siemens
        double gridV, plateV; ///< about at rest: what is near is rounded least
        double spanV;         ///< the table reaches from plateV - spanV to plateV + spanV
        double bentA; ///< a current so far off a straight line half way from one sample to the next is taken to bend
        bool operator==(const Spec&) const = default;
    };

    explicit TubeTable(const Spec& spec); ///< allocates; some 10 ms
    const Spec& spec() const noexcept { return spec_; }
    double bentA() const noexcept { return spec_.bentA; }
    /// The lines over the plate's voltage that the columns lie between, and the rows. A place in the table is
    /// kMiddle + kScale by / (|by| + half), where `by` is how far the grid is off the middle between the lines and
    /// `half` half of what is between them, but kLeastHalfV at least; and (plate - low) perVolt.
    struct Lines {
        double middle, middleLean, half, halfLean, low, perVolt;
        double column, row, plateA; ///< the place about rest, and the plate's current there, less that through plateS
        double perColumn, perRow;   ///< how that goes on from there
    };
    const Lines& lines() const noexcept { return lines_; }
    static constexpr int kColumns = 256, kRows = 128; ///< powers of two, so that no place lies outside
    static constexpr std::size_t kHalfRow = 2 * kColumns + 32, kRow = 2 * kHalfRow; ///< numbers; not of one cache set
    // Most of the bending is at the lines: most places within one half of the middle.
    static constexpr double kLeastHalfV = 0.5, kFarthest = 400.0 / 401.0, kScale = 126.5 / kFarthest, kMiddle = 127.5;
    static constexpr double kEdge = 1e-3; ///< how near a place comes to the first and the last row
    /// From kRow times the row and twice the column on, four columns of both currents, the grid's and the plate's in
    /// turns, the latter less that through plateS and what a straight line from rest gives: half way to the next row;
    /// kHalfRow further on, how they go on to there.
    const float* numbers() const noexcept { return values_.data(); }
    /// What each of four columns counts for each power of the place.
    static constexpr float kWeights[4][4]{{-0.0625f, 0.5625f, 0.5625f, -0.0625f},
                                          {0.125f, -1.375f, 1.375f, -0.125f},
                                          {0.25f, -0.25f, -0.25f, 0.25f},
                                          {-0.5f, 1.5f, -1.5f, 0.5f}};
    /// The same for a place, each for both currents: cubic over the grid's voltage (Catmull and Rom), of
    /// how far the place is off the middle between the second and the third, in columns. Over the plate's, over which
    /// the currents of a loaded tube bend little, and softly at a pentode's knee, a straight line folds less. What is
    /// rounded to single precision is what bends; near rest that is little.
    /// @tparam column  of each number
    template<int (*column)(int), typename V>
    [[gnu::always_inline]] static inline void weights(const V& off, V& out) noexcept
    {
        V one{}, linear{}, square{}, cube{};
        for (int i = 0; i < int(sizeof(V) / sizeof(float)); ++i) {
            one[i] = kWeights[0][column(i)], linear[i] = kWeights[1][column(i)];
            square[i] = kWeights[2][column(i)], cube[i] = kWeights[3][column(i)];
        }
        out = (one + off * linear) + off * off * (square + off * cube);
    }

private:
    // A row repeats its ends twice, so that a place at the outermost has four columns about it.
    static constexpr int kGrid = kColumns - 2;
    double halfAt(double plate) const noexcept { return std::max(kLeastHalfV, lines_.half + lines_.halfLean * plate); }

    Spec spec_;
    Lines lines_{};
    std::vector<float> values_; ///< of each row the mids, then the slopes
};

/// A tube's table as polynomials, four times as large: a look into it takes less arithmetic and one line of memory, but
/// lines that are cold are many. For rendering.
class TubeCells {
public:
    /// Four powers of the place, from the constant on, of both currents, the grid's and the plate's in turns, half way
    /// to the next row; kHalf further on, how they go on to there. See TubeTable::numbers and TubeTable::weights.
    struct alignas(64) Cell {
        std::array<float, 16> numbers;
    };
    static constexpr std::size_t kHalf = 8;

    explicit TubeCells(const TubeTable& table); ///< allocates two mebibytes; some 4 ms
    /// Rows of TubeTable::kColumns.
    const Cell* cells() const noexcept { return cells_.data(); }

private:
    std::vector<Cell> cells_;
};

/// The tables for these tubes, of the loadings rounded to five digits: those that were made before, and the others made
/// anew by all cores. What a control does not change is not made again. Keeps the last fifty, some 28 MB. Any thread.
std::vector<std::shared_ptr<const TubeTable>> tubeTables(std::vector<TubeTable::Spec> specs);

} // namespace gristle::core
