#include "core/rig/circuit/netlist.h"

#include <fmt/format.h>

namespace gristle::core {

void Netlist::triode(Node plate, Node grid, Node cathode, const Triode& law)
{
    triodes.push_back({plate, grid, cathode, law});
    capacitor(grid, plate, law.gridPlateF);
    capacitor(grid, cathode, law.gridCathodeF);
}

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
    for (const auto& t : n.triodes) {
        const Triode& l = t.law;
        const std::string p = name(t.plate), g = name(t.grid), k = name(t.cathode);
        const std::string vp = fmt::format("V({},{})", p, k), vg = fmt::format("V({},{})", g, k);
        ++i;
        out += fmt::format("BP{} {} {} I = {} > 0 ? {:.12g}*pow(max({},1e-9)/{:.9g}*ln(1+exp({:.9g}*({:.12g}+{}/"
                           "sqrt({:.9g}+{}*{})))),{:.9g}) : 0\n",
                           i, p, k, vp, 2.0 / l.kg, vp, l.kp, l.kp, 1.0 / l.mu, vg, l.kvb, vp, vp, l.exponent);
        out += fmt::format("BG{} {} {} I = {:.12g}*pow(ln(1+exp({:.9g}*{}))/{:.9g},{:.9g})\n", i, g, k, l.gridPerveance,
                           l.gridSharpness, vg, l.gridSharpness, l.gridExponent);
    }
    return out;
}

} // namespace gristle::core
