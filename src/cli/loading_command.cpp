#include "cli/report.h"
#include "core/rig/nodes/loading.h"
#include "core/rig/rig_document.h"
#include "core/units/decibels.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

constexpr double kLossHz[] = {1000.0, 3000.0, 4000.0, 5000.0};

/// "pickup=narrow cable=6 input=68", the keys of the loading node, as a circuit.
Result<GuitarCircuit> circuitOf(const std::string& line)
{
    auto chain = parseRecallLine("loading " + line);
    if (!chain) return chain.error();
    if (chain->size() != 1 || chain->front().type != "loading")
        return Error{ErrorCode::Usage, "loading: a set-up is a list of key=value", "leave out | and {"};
    return guitarCircuitOf(completeValues(*findNodeType("loading"), chain->front().values));
}

Json lossJson(const GuitarCircuit& g)
{
    Json out = Json::array();
    for (const double hz : kLossHz) out.push_back({{"hz", hz}, {"loss_db", insertionLossDb(g, hz)}});
    return out;
}

Json responseJson(const GuitarCircuit& g)
{
    Json out = Json::array();
    for (int k = 0; k <= 120; ++k) { // 20 Hz to 20.48 kHz by twelfths of an octave
        const double hz = 20.0 * std::pow(2.0, k / 12.0);
        out.push_back({{"hz", hz}, {"db", amplitudeToDb(std::abs(responseAt(g, hz)))}});
    }
    return out;
}

Result<Answer> loading(std::vector<std::string> setups)
{
    if (setups.empty()) setups.push_back("");
    Answer a;
    a.json["setup"] = Json::array();
    std::vector<GuitarCircuit> circuits;
    for (const auto& line : setups) {
        const auto g = circuitOf(line);
        if (!g) return g.error();
        const auto r = resonanceOf(*g);
        circuits.push_back(*g);
        a.json["setup"].push_back({{"setup", line},
                                   {"resonance_hz", orNull(r.hz)},
                                   {"q", orNull(r.q)},
                                   {"peak_db", r.peakDb},
                                   {"loss", lossJson(*g)},
                                   {"response", responseJson(*g)}});
        a.text +=
            fmt::format("{}: resonance {} Hz, Q {}; the input costs {:.1f} dB at 1 kHz, {:.1f} at 3, {:.1f} at 4, "
                        "{:.1f} at 5\n",
                        line.empty() ? "as initial" : line, shown(r.hz, 0), shown(r.q, 1), insertionLossDb(*g, 1000.0),
                        insertionLossDb(*g, 3000.0), insertionLossDb(*g, 4000.0), insertionLossDb(*g, 5000.0));
    }
    a.json["difference"] = Json::array();
    for (std::size_t i = 1; i < circuits.size(); ++i) { // each against the first
        Json row = Json::array();
        for (const double hz : kLossHz)
            row.push_back(
                {{"hz", hz},
                 {"db", amplitudeToDb(std::abs(responseAt(circuits[i], hz)) / std::abs(responseAt(circuits[0], hz)))}});
        a.json["difference"].push_back(std::move(row));
    }
    a.text += "The pickup's values are typical for its kind; any one guitar differs.\n";
    return a;
}

} // namespace

void addLoading(CLI::App& app, Job& job)
{
    auto setups = std::make_shared<std::vector<std::string>>();
    CLI::App* command = app.add_subcommand("loading", "What controls, cable and input do to a pickup");
    command->add_option("SETUP", *setups,
                        "key=value ... in quotes, keys as in `nodes` under loading; several are compared to the first");
    command->callback([setups, &job] { job = [setups](const Surroundings&) { return loading(*setups); }; });
}

} // namespace gristle::cli
