#pragma once

#include "core/rig/circuit/netlist.h"
#include "core/rig/circuit/tube_table.h"

#include <limits>
#include <memory>
#include <span>
#include <vector>

namespace gristle::core {

/// A netlist made ready for steps of one length: the linear rest in state-space form, each tube as a table, and where
/// all of it rests. Capacitors and inductors go by the trapezoidal rule; what each remembers is its history. The
/// histories stand as sums of the circuit's own motions, each of which, without currents, only fades or swings by
/// itself: the next ones take a product for each of them instead of one for each two. Sources: Yeh, Abel and Smith
/// 2010, Automated physical modeling of nonlinear audio circuits; the modal form of a linear system, e.g. Kailath 1980,
/// Linear Systems.
///
/// A circuit may be cut into sections, one behind the other, where no direct voltage stands. Each has a form of its
/// own: it sees the one before as a source behind a resistance, and the one behind as a resistance to a source, which
/// is all that there is to see of a linear circuit within one step (Thevenin). What is left of tubes is in the sources.
struct CircuitForm {
    /// What a section sees at its ends within one step.
    struct Ends {
        double sourceOhm = 0.0;                                   ///< 0: its input is an ideal source
        double loadOhm = std::numeric_limits<double>::infinity(); ///< behind its output
    };

    /// One number that goes into a step stands in a slot: first the motions, then the source at the input, and that
    /// behind the load, then two currents of each tube (into the grid; into the plate, less that through its
    /// conductance).
    std::size_t tubes = 0, motions = 0;
    static constexpr std::size_t kSources = 2;
    std::size_t firstCurrent() const noexcept { return motions + kSources; }
    std::size_t currents() const noexcept { return 2 * tubes; }
    std::size_t slotCount() const noexcept { return firstCurrent() + currents(); }

    /// What each tube's grid and plate have of all slots, less what its own currents do; their constant behind.
    std::vector<std::vector<double>> voltages;
    /// What each next motion has of sources and currents, then what it gives to the section behind (or the output), and
    /// what to the one before, as its source; their constant behind.
    std::vector<std::vector<double>> given;
    std::vector<double> keeps;                      ///< of each motion, what the next sample has of it
    std::vector<double> swings;                     ///< and what of its neighbour; two neighbours swing together
    std::vector<double> ahead, back;                ///< what the section behind, and that before, has of each motion
    std::vector<double> toHistories, fromHistories; ///< from motions, and back: square, by rows
    std::vector<std::shared_ptr<const TubeTable>> tables;

    std::vector<double> restSlots;
    std::vector<std::array<double, 2>> restPorts;    ///< what would stand at each tube without its currents
    std::vector<TubeCurrents> restCurrents;          ///< of each tube
    std::vector<std::array<double, 2>> restVoltages; ///< grid and plate against cathode, of each tube

    /// Works out matrices and tables, and where the circuit rests. Allocates; some 10 ms a tube. The netlist has an
    /// input and an output.
    static CircuitForm of(const Netlist& netlist, double rateHz, const Ends& ends);
    /// Of sections, in the order of the signal: the output of each is the input of the next.
    static std::vector<CircuitForm> ofSections(std::span<const Netlist> sections, double rateHz);
    /// Seconds in which the motion that lasts longest falls to 1/e, at this rate; at most 10.
    double longestSeconds(double rateHz) const noexcept;
};

} // namespace gristle::core
