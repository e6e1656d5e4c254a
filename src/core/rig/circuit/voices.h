#pragma once

#include "core/rig/circuit/netlist.h"

namespace gristle::core {

/// What a player turns, 0 to 1.
struct AmplifierControls {
    double drive = 0.5, bass = 0.5, middle = 0.5, treble = 0.5, master = 0.4, presence = 0.5, depth = 0.5;
};

/// How the supply of the power stage gives way.
struct Sag {
    double sourceOhm = 60.0;
    double reservoirF = 47e-6;
};

/// The voices of the amplifier, by what they do. Values of our own from load lines, docs/voices.md.
enum class Voice { CleanHeadroom, TightCascade };

/// Preamp: from the socket to the master's wiper. Power: from there to the loudspeaker.
enum class AmplifierPart { Whole, Preamp, Power };

/// The amplifier, from its socket to the loudspeaker's terminals, or a part of it.
Netlist amplifierNetlist(Voice voice, const AmplifierControls& controls, const Sag& sag = {},
                         AmplifierPart part = AmplifierPart::Whole);
/// The same in its sections, for CircuitSolver: preamp and power stage apart.
std::vector<Netlist> amplifierSections(Voice voice, const AmplifierControls& controls, const Sag& sag = {},
                                       AmplifierPart part = AmplifierPart::Whole);

} // namespace gristle::core
