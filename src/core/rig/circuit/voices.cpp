#include "core/rig/circuit/voices.h"

#include <cmath>

namespace gristle::core {

namespace {

using Node = Netlist::Node;
constexpr Node kGround = Netlist::kGround;

/// A pot with a logarithmic law of 30 dB that closes fully.
double taper(double turn)
{
    constexpr double kRange = 31.6;
    return (std::pow(kRange, turn) - 1.0) / (kRange - 1.0);
}

/// A resistance-coupled triode: what is not named stays out.
struct Stage {
    double plateOhm = 100e3, cathodeOhm = 1500.0, cathodeF = 0.0;
};

/// Adds a stage to a grid. @return its plate
Node addStage(Netlist& n, Node grid, Node supply, const Stage& s)
{
    const Node plate = n.node(), cathode = n.node();
    n.resistor(supply, plate, s.plateOhm);
    n.resistor(cathode, kGround, s.cathodeOhm);
    if (s.cathodeF > 0.0) n.capacitor(cathode, kGround, s.cathodeF);
    n.tube(plate, grid, cathode, Triode{});
    return plate;
}

Node supplyOf(Netlist& n, double volts)
{
    const Node node = n.node();
    n.supply(node, volts);
    return node;
}

/// A coupling capacitor, a resistor in series, one to ground. @return the node between the resistors
Node couple(Netlist& n, Node plate, double farad, double seriesOhm, double shuntOhm)
{
    const Node behind = n.node(), out = n.node();
    n.capacitor(plate, behind, farad);
    n.resistor(behind, out, seriesOhm);
    n.resistor(out, kGround, shuntOhm);
    return out;
}

Node throughResistor(Netlist& n, Node from, double ohm)
{
    const Node to = n.node();
    n.resistor(from, to, ohm);
    return to;
}

struct ToneParts {
    double trebleF, slopeOhm, bassF, middleF, trebleOhm, bassOhm, middleOhm;
};

/// The passive network of treble, bass and middle. @return its output, at the treble's wiper
Node addToneStack(Netlist& n, Node from, const ToneParts& t, const AmplifierControls& c)
{
    const Node top = n.node(), wiper = n.node(), low = n.node(), slope = n.node(), middle = n.node();
    n.capacitor(from, top, t.trebleF);
    n.pot(top, wiper, low, t.trebleOhm, c.treble);
    n.resistor(from, slope, t.slopeOhm);
    n.capacitor(slope, low, t.bassF);
    n.capacitor(slope, middle, t.middleF);
    n.resistor(low, middle, 1.0 + t.bassOhm * taper(c.bass));
    n.resistor(middle, kGround, 1.0 + t.middleOhm * c.middle);
    return wiper;
}

/// A pot as a volume control into a grid. @return the wiper
Node addVolume(Netlist& n, Node from, double ohm, double turn)
{
    const Node wiper = n.node();
    n.pot(from, wiper, kGround, ohm, taper(turn));
    return wiper;
}

/// Driver, split-load inverter, two pentodes in class AB, transformer, loudspeaker, and feedback from there to the
/// driver's cathode. @return the loudspeaker's terminal
Node addPowerStage(Netlist& n, Node in, const AmplifierControls& c, const Sag& sag)
{
    const Node supply = supplyOf(n, 360.0), bias = supplyOf(n, -36.0), raw = supplyOf(n, 410.0);
    // Driver: its grid returns to the foot of its cathode resistor, where the feedback comes in. 0.84 mA, -1.27 V, 170
    // V from plate to cathode; the inverter wants 38 V of it, for which its grid goes by 0.5 V.
    const Node grid = n.node(), cathode = n.node(), foot = n.node(), plate = n.node();
    n.capacitor(throughResistor(n, in, 220e3), grid, 22e-9);
    n.resistor(grid, foot, 1e6);
    n.resistor(cathode, foot, 1500.0);
    n.resistor(foot, kGround, 3300.0);
    n.resistor(supply, plate, 220e3);
    n.capacitor(plate, kGround, 470e-12); // keeps the feedback from singing, and edges from being steeper than heard
    n.tube(plate, grid, cathode, Triode{});
    // Inverter: equal loads in plate and cathode, its grid at 63 V. 1.16 mA, -1.7 V, 230 V: 65 V over each load, which
    // can halve and double before the grid draws current or the tube is cut off.
    const Node upper = n.node(), lower = n.node(), middle = n.node();
    n.resistor(supply, upper, 56e3);
    n.resistor(lower, kGround, 56e3);
    n.capacitor(plate, middle, 22e-9);
    n.resistor(supply, middle, 4.7e6);
    n.resistor(middle, kGround, 1e6);
    n.tube(upper, throughResistor(n, middle, 100e3), lower, Triode{});
    // Power tubes: 40 mA each, 405 V, 16.4 W of their 25.
    const auto grids = [&](Node from) {
        const Node leak = n.node();
        n.capacitor(from, leak, 47e-9);
        n.resistor(leak, bias, 220e3);
        return throughResistor(n, leak, 22e3);
    };
    const Node gridA = grids(upper), gridB = grids(lower), plateA = n.node(), plateB = n.node(), tap = n.node();
    n.tube(plateA, gridA, kGround, Pentode{});
    n.tube(plateB, gridB, kGround, Pentode{});
    n.resistor(raw, tap, sag.sourceOhm);
    n.capacitor(tap, kGround, sag.reservoirF);
    // Transformer, 3.4 kilohms from plate to plate at 8 ohms: halves of 10.3 to 1.
    const Node inner = n.node(), speaker = n.node();
    constexpr double kHalf = 10.3;
    n.transformer(plateA, tap, inner, kGround, -kHalf);
    n.transformer(plateB, tap, inner, kGround, kHalf);
    n.inductor(plateA, plateB, 12.0);
    n.capacitor(plateA, plateB, 700e-12);
    const Node leak = n.node();
    n.resistor(inner, leak, 0.4);
    n.inductor(leak, speaker, 19e-6);
    // Loudspeaker: voice coil with its eddy currents, cone resonance at 85 Hz.
    const Node coil = n.node(), cone = n.node();
    n.resistor(speaker, coil, 6.2);
    n.inductor(coil, cone, 0.6e-3);
    n.resistor(coil, cone, 25.0);
    n.resistor(cone, kGround, 45.0);
    n.inductor(cone, kGround, 17.5e-3);
    n.capacitor(cone, kGround, 200e-6);
    // Feedback; presence takes the top out of it, depth the low end.
    const Node back = n.node(), shelf = n.node();
    n.capacitor(speaker, back, 10e-9);
    n.resistor(speaker, back, 1e3 + 1e6 * taper(c.depth));
    n.resistor(back, foot, 47e3);
    n.resistor(foot, shelf, 300.0 + 22e3 * (1.0 - c.presence));
    n.capacitor(shelf, kGround, 100e-9);
    return speaker;
}

Node cleanHeadroom(Netlist& n, Node in, const AmplifierControls& c)
{
    const Node supply = supplyOf(n, 310.0), grid = n.node();
    n.resistor(in, grid, 33e3);
    n.resistor(grid, kGround, 1e6);
    const Node first = addStage(n, grid, supply, {100e3, 1500.0, 22e-6}); // 1.04 mA, -1.55 V, 205 V
    const Node tone = addToneStack(n, first, {250e-12, 100e3, 100e-9, 47e-9, 250e3, 250e3, 10e3}, c);
    const Node second = throughResistor(n, addVolume(n, tone, 1e6, c.drive), 100e3);
    const Node plate = addStage(n, second, supply, {100e3, 1500.0, 22e-6}); // the same
    return addVolume(n, couple(n, plate, 47e-9, 100e3, 1e6), 1e6, c.master);
}

Node tightCascade(Netlist& n, Node in, const AmplifierControls& c)
{
    const Node supply = supplyOf(n, 310.0), grid = n.node();
    n.resistor(in, grid, 33e3);
    n.resistor(grid, kGround, 1e6);
    const Node first = addStage(n, grid, supply, {100e3, 2200.0, 680e-9}); // 0.85 mA, -1.87 V; the low end stays back
    const Node drive = couple(n, first, 10e-9, 330e3, 1e9);
    n.capacitor(n.capacitors.back().b, drive, 470e-12); // the top goes past the resistor
    const Node second =
        addStage(n, throughResistor(n, addVolume(n, drive, 1e6, c.drive), 150e3), supply, {100e3, 1800.0, 1e-6});
    const Node third = addStage(n, throughResistor(n, couple(n, second, 22e-9, 470e3, 120e3), 100e3), supply,
                                {100e3, 10e3, 0.0}); // 0.30 mA, -3.03 V: clips one side early
    const Node fourth =
        addStage(n, throughResistor(n, couple(n, third, 22e-9, 470e3, 120e3), 100e3), supply, {100e3, 1800.0, 0.0});
    // The cascade's 60 V would hit the power stage thirty times over: 680 kohm leave a quarter.
    const Node tone = addToneStack(n, fourth, {470e-12, 56e3, 22e-9, 22e-9, 250e3, 500e3, 25e3}, c);
    return addVolume(n, throughResistor(n, tone, 680e3), 250e3, c.master);
}

} // namespace

Netlist amplifierNetlist(Voice voice, const AmplifierControls& c, const Sag& sag, AmplifierPart part)
{
    Netlist n;
    const Node in = n.node();
    n.setInput(in);
    const Node preamp = part == AmplifierPart::Power    ? in
                        : voice == Voice::CleanHeadroom ? cleanHeadroom(n, in, c)
                                                        : tightCascade(n, in, c);
    n.setOutput(part == AmplifierPart::Preamp ? preamp : addPowerStage(n, preamp, c, sag));
    return n;
}

std::vector<Netlist> amplifierSections(Voice voice, const AmplifierControls& c, const Sag& sag, AmplifierPart part)
{
    if (part != AmplifierPart::Whole) return {amplifierNetlist(voice, c, sag, part)};
    return {amplifierNetlist(voice, c, sag, AmplifierPart::Preamp),
            amplifierNetlist(voice, c, sag, AmplifierPart::Power)};
}

} // namespace gristle::core
