#pragma once

#include "core/rig/circuit/tube.h"

#include <string>
#include <vector>

namespace gristle::core {

/// A circuit as a list of parts between nodes; node 0 is ground. The same list is solved by CircuitSolver and written
/// for a circuit simulator.
class Netlist {
public:
    using Node = int;
    static constexpr Node kGround = 0;
    struct Resistor {
        Node a, b;
        double ohm;
    };
    struct Capacitor {
        Node a, b;
        double farad;
    };
    struct Source { ///< ideal, from a node to ground
        Node node;
        double volts;
    };
    struct Inductor {
        Node a, b;
        double henry;
    };
    struct Transformer { ///< ideal: the voltage from a to b is `ratio` times that from c to d
        Node a, b, c, d;
        double ratio;
    };
    struct Tube {
        Node plate, grid, cathode;
        TubeLaw law;
    };

    Node node() { return ++nodes_; }
    void resistor(Node a, Node b, double ohm) { resistors.push_back({a, b, ohm}); }
    void capacitor(Node a, Node b, double farad) { capacitors.push_back({a, b, farad}); }
    void supply(Node node, double volts) { supplies.push_back({node, volts}); }
    void inductor(Node a, Node b, double henry) { inductors.push_back({a, b, henry}); }
    void transformer(Node a, Node b, Node c, Node d, double ratio) { transformers.push_back({a, b, c, d, ratio}); }
    /// Adds the capacitances of its law, too. Tubes are solved in the order in which they are added: along the signal.
    void tube(Node plate, Node grid, Node cathode, const TubeLaw& law);
    /// A potentiometer between `top` and `bottom`. @param turn  of the wiper from the bottom, 0 to 1, held off both
    /// ends
    void pot(Node top, Node wiper, Node bottom, double ohm, double turn);
    void setInput(Node node) { input = node; }
    void setOutput(Node node) { output = node; }
    int nodes() const noexcept { return nodes_; }

    std::vector<Resistor> resistors;
    std::vector<Capacitor> capacitors;
    std::vector<Source> supplies;
    std::vector<Inductor> inductors;
    std::vector<Transformer> transformers;
    std::vector<Tube> tubes;
    Node input = kGround, output = kGround; ///< the input is an ideal source

private:
    int nodes_ = 0;
};

/// The netlist in the common language of circuit simulators, its input a source of `inputText` ("PWL(...)", or a
/// formula: "V=sin(2*pi*440*time)"), its output node named out. Without analysis lines.
std::string spiceText(const Netlist& netlist, const std::string& title, const std::string& inputText);

} // namespace gristle::core
