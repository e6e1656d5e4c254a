#pragma once

#include "core/rig/circuit/circuit_solver.h"

#include <array>
#include <memory>

namespace gristle::core {

/// Sixteen circuits of one form, step by step side by side: for rendering, where sixteen stretches of a performance can
/// be played at once. As CircuitSolver but for rounding; a step of all costs about as much as three of one.
class CircuitBatch {
public:
    static constexpr std::size_t kLanes = 16;
    using Volts = std::array<float*, kLanes>; ///< of each lane

    explicit CircuitBatch(const CircuitSolver& like); ///< allocates
    ~CircuitBatch();
    CircuitBatch(const CircuitBatch&); ///< tables are shared
    CircuitBatch(CircuitBatch&&) noexcept;
    CircuitBatch& operator=(CircuitBatch&&) noexcept;

    void set(std::size_t lane, const CircuitMoment& moment) noexcept;
    void get(std::size_t lane, CircuitMoment& moment) const noexcept; ///< `moment` is one of the same form
    /// Volts in, volts out, in place, as many of each lane.
    /// @param inGain, outGain  on what comes in and on what goes out
    void process(const Volts& volts, std::size_t samples, double inGain, float outGain) noexcept;

    struct State;

private:
    std::unique_ptr<State> state_;
};

} // namespace gristle::core
