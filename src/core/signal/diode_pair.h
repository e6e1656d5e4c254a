#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace gristle::core {

/// Two diodes across each other beside a resistor, driven by a current: the voltage v with
/// i = v / R + 2 Is sinh(v / nVt). Static, with antiderivative anti-aliasing of the third order: the way from sample to
/// sample is a cubic through four of them, its quarters are straight lines, and the means of ten quarters are weighted
/// by a quadratic spline, which puts triple zeros where the sampling rate folds. What that takes off the top is put
/// back behind it. The law stands in a table of cubics, the antiderivative is theirs, so the two agree to the last
/// digit. Sources: Shockley 1949 (the law); Parker, Zavalishin, Le Bivic 2016 (the antiderivative method); Schoenberg
/// 1946 (the spline as three boxes, here of four quarters).
class DiodePair {
public:
    struct Parts {
        double ohm = 500e3;
        double saturationA = 2.5e-9, slopeV = 0.045; ///< Is, n Vt of a common small-signal diode
    };
    static constexpr double kDelay = 3.25; ///< samples: half the spline, one for the cubic, one for the top
    explicit DiodePair(const Parts& parts);
    void reset() noexcept;
    /// In place: amperes to volts.
    void process(std::span<double> x) noexcept;
    /// The law itself, without anti-aliasing.
    double voltsAt(double amperes) const noexcept;

private:
    typedef double Four __attribute__((vector_size(32), may_alias));
    typedef std::uint64_t Bits __attribute__((vector_size(32), may_alias)); ///< of them
    typedef double Unaligned __attribute__((vector_size(32), aligned(8), may_alias));
    /// From one node to the next: v / nVt over i / 2 Is as a cubic of 0 to 1, and its integral up to the first node.
    struct alignas(64) Cell {
        Four cubic{};
        double area = 0.0;
    };
    struct State {
        double x0 = 0.0, x1 = 0.0, x2 = 0.0;           ///< the last currents, in 2 Is
        double current = 0.0, value = 0.0, area = 0.0; ///< at the end of the last way
        Unaligned means{}, meansBefore{};              ///< of the quarters of the last two ways
        double behind = 0.0, last = 0.0;               ///< the last splines, before what was taken off the top
    };
    static constexpr std::size_t kChunk = 32; ///< samples at a time
    /// So many quarters, those of each sample one after the other, and what was before them.
    struct Quarters {
        alignas(32) double of[4 + 4 * kChunk];
        Four& operator[](std::size_t sample) noexcept { return *reinterpret_cast<Four*>(of + 4 + 4 * sample); }
        double& last(std::size_t samples) noexcept { return of[3 + 4 * samples]; }
        const Unaligned& behind(std::size_t sample) const noexcept ///< one quarter earlier
        {
            return *reinterpret_cast<const Unaligned*>(of + 3 + 4 * sample);
        }
    };
    /// Where in the table four currents are.
    struct Spot {
        Four along, width; ///< a cell: how far in it, its width
        std::uint64_t cells[4];
    };
    static void find(const Four& sizes, Spot& out) noexcept;
    /// @param values, areas  the voltage / nVt there, and its integral over the current
    void look(const Spot& spot, Four& values, Four& areas) const noexcept;
    void chunk(std::span<double> x) noexcept;

    Parts parts_;
    std::vector<Cell> cells_;
    State state_;
};

} // namespace gristle::core
