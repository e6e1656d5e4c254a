#include "core/rig/circuit/netlist.h"

#include <algorithm>
#include <fmt/format.h>

namespace gristle::core {

void Netlist::tube(Node plate, Node grid, Node cathode, const TubeLaw& law)
{
    tubes.push_back({plate, grid, cathode, law});
    std::visit(
        [&](const auto& l) {
            if (l.gridPlateF > 0.0) capacitor(grid, plate, l.gridPlateF);
            if (l.gridCathodeF > 0.0) capacitor(grid, cathode, l.gridCathodeF);
        },
        law);
}

void Netlist::pot(Node top, Node wiper, Node bottom, double ohm, double turn)
{
    const double held = std::clamp(turn, 1e-4, 1.0 - 1e-4);
    resistor(top, wiper, ohm * (1.0 - held));
    resistor(wiper, bottom, ohm * held);
}

namespace {

/// The plate's current as a formula of the simulator.
std::string plateText(const Triode& t, const std::string& vg, const std::string& vp)
{
    return fmt::format("{:.12g}*pow(max({},1e-9)/{:.9g}*ln(1+exp({:.9g}*({:.12g}+{}/sqrt({:.9g}+{}*{})))),{:.9g})",
                       2.0 / t.kg, vp, t.kp, t.kp, 1.0 / t.mu, vg, t.kvb, vp, vp, t.exponent);
}
std::string plateText(const Pentode& p, const std::string& vg, const std::string& vp)
{
    return fmt::format("{:.12g}*pow({:.9g}*ln(1+exp({:.9g}*({:.12g}+{}/{:.9g}))),{:.9g})*atan({}/{:.9g})", 2.0 / p.kg,
                       p.screenV / p.kp, p.kp, 1.0 / p.mu, vg, p.screenV, p.exponent, vp, p.kvb);
}

} // namespace

std::string spiceText(const Netlist& n, const std::string& title, const std::string& inputText)
{
    const auto name = [&](Netlist::Node node) {
        return node == n.output && node != 0 ? std::string("out") : fmt::format("{}", node);
    };
    std::string out = "* " + title + "\n";
    out += fmt::format("{}IN {} 0 {}\n", inputText.starts_with("V=") ? "B" : "V", name(n.input), inputText);
    int i = 0;
    for (const auto& s : n.supplies) out += fmt::format("VB{} {} 0 DC {:.9g}\n", ++i, name(s.node), s.volts);
    i = 0;
    for (const auto& r : n.resistors) out += fmt::format("R{} {} {} {:.9g}\n", ++i, name(r.a), name(r.b), r.ohm);
    i = 0;
    for (const auto& c : n.capacitors) out += fmt::format("C{} {} {} {:.9g}\n", ++i, name(c.a), name(c.b), c.farad);
    i = 0;
    for (const auto& l : n.inductors) out += fmt::format("L{} {} {} {:.9g}\n", ++i, name(l.a), name(l.b), l.henry);
    i = 0;
    for (const auto& t : n.transformers) { // a source of voltage on one side, of current on the other
        ++i;
        out += fmt::format("VT{} {} t{} DC 0\nET{} t{} {} {} {} {:.9g}\n", i, name(t.a), i, i, i, name(t.b), name(t.c),
                           name(t.d), t.ratio);
        out += fmt::format("FT{} {} {} VT{} {:.9g}\n", i, name(t.d), name(t.c), i, t.ratio);
    }
    i = 0;
    for (const auto& t : n.tubes) {
        const std::string p = name(t.plate), g = name(t.grid), k = name(t.cathode);
        const std::string vp = fmt::format("V({},{})", p, k), vg = fmt::format("V({},{})", g, k);
        const GridDiode& d = diodeOf(t.law);
        ++i;
        out += fmt::format("BP{} {} {} I = {} > 0 ? {} : 0\n", i, p, k, vp,
                           std::visit([&](const auto& l) { return plateText(l, vg, vp); }, t.law));
        out += fmt::format("BG{} {} {} I = {:.12g}*pow(ln(1+exp({:.9g}*{}))/{:.9g},{:.9g})\n", i, g, k, d.perveance,
                           d.sharpness, vg, d.sharpness, d.exponent);
    }
    return out;
}

} // namespace gristle::core
