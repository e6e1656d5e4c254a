#include "core/rig/circuit/circuit_form.h"

#include <Eigen/Dense>
#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cassert>
#include <cmath>

namespace gristle::core {

namespace {

using Matrix = Eigen::MatrixXd;
using Vector = Eigen::VectorXd;

/// How far a plate's voltage without its current goes from that at rest, in parts of the supply. A transformer swings a
/// plate up to twice the supply.
double spanOf(const TubeLaw& law) { return std::holds_alternative<Triode>(law) ? 0.5 : 1.6; }

/// TubeTable::Spec::bentA: of what a triode draws about a hundredth, at the rates for rendering less, as that pays
/// there; of what a pentode does a thousandth.
double bentOf(const TubeLaw& law, double rateHz)
{
    constexpr double kRenderingHz = 600e3;
    return !std::holds_alternative<Triode>(law) ? 1e-4 : rateHz < kRenderingHz ? 1e-5 : 4e-6;
}

/// Modified nodal analysis: a row for each node, then one for each ideal source (the input first), then one for each
/// transformer.
class Nodal {
public:
    explicit Nodal(const Netlist& n)
        : nodes_(n.nodes()), matrix_(Matrix::Zero(nodes_ + 1 + long(n.supplies.size() + n.transformers.size()),
                                                  nodes_ + 1 + long(n.supplies.size() + n.transformers.size())))
    {
        for (const auto& r : n.resistors) conductance(r.a, r.b, 1.0 / r.ohm);
        source(n.input, nodes_);
        for (std::size_t s = 0; s < n.supplies.size(); ++s) source(n.supplies[s].node, nodes_ + 1 + int(s));
        for (std::size_t t = 0; t < n.transformers.size(); ++t)
            transformer(n.transformers[t], nodes_ + 1 + int(n.supplies.size() + t));
        for (int i = 0; i < nodes_; ++i) matrix_(i, i) += kLeakS;
    }
    void conductance(Netlist::Node a, Netlist::Node b, double siemens)
    {
        if (a > 0) matrix_(a - 1, a - 1) += siemens;
        if (b > 0) matrix_(b - 1, b - 1) += siemens;
        if (a > 0 && b > 0) matrix_(a - 1, b - 1) -= siemens, matrix_(b - 1, a - 1) -= siemens;
    }
    /// A current from `from` to `to` of so much for each volt between two other nodes.
    void transconductance(Netlist::Node from, Netlist::Node to, Netlist::Node plus, Netlist::Node minus, double siemens)
    {
        for (const auto& [row, sign] : {std::pair(from, 1.0), std::pair(to, -1.0)}) {
            if (row == 0) continue;
            if (plus > 0) matrix_(row - 1, plus - 1) += sign * siemens;
            if (minus > 0) matrix_(row - 1, minus - 1) -= sign * siemens;
        }
    }
    /// The right side for a current of 1 A through a part from `from` to `to`.
    Vector current(Netlist::Node from, Netlist::Node to) const
    {
        Vector out = Vector::Zero(matrix_.rows());
        if (from > 0) out[from - 1] -= 1.0;
        if (to > 0) out[to - 1] += 1.0;
        return out;
    }
    Vector input() const { return Vector::Unit(matrix_.rows(), inputRow()); }
    long inputRow() const { return nodes_; }
    /// The right side for 1 V of the last supply.
    Vector lastSupply(const Netlist& n) const { return Vector::Unit(matrix_.rows(), nodes_ + long(n.supplies.size())); }
    Vector supplies(const Netlist& n) const
    {
        Vector out = Vector::Zero(matrix_.rows());
        for (std::size_t s = 0; s < n.supplies.size(); ++s) out[nodes_ + 1 + long(s)] = n.supplies[s].volts;
        return out;
    }
    const Matrix& matrix() const { return matrix_; }

private:
    static constexpr double kLeakS = 1e-12; // so that a node behind capacitors alone has a voltage

    void source(Netlist::Node node, int row)
    {
        assert(node > 0);
        matrix_(node - 1, row) += 1.0;
        matrix_(row, node - 1) += 1.0;
    }
    void transformer(const Netlist::Transformer& t, int row)
    {
        for (const auto& [node, by] : {std::pair(t.a, 1.0), {t.b, -1.0}, {t.c, -t.ratio}, {t.d, t.ratio}}) {
            if (node == 0) continue;
            matrix_(node - 1, row) += by;
            matrix_(row, node - 1) += by;
        }
    }
    int nodes_;
    Matrix matrix_;
};

double across(const Vector& x, Netlist::Node a, Netlist::Node b)
{
    return (a > 0 ? x[a - 1] : 0.0) - (b > 0 ? x[b - 1] : 0.0);
}

constexpr double kWireS = 100.0; // what an inductor is at rest

/// One try at the node voltages at rest, by Newton's method from `x`. @param part  of the supplies. False where it does
/// not settle.
bool settle(const Netlist& n, const Nodal& linear, double part, Vector& x)
{
    constexpr int kRounds = 100;
    constexpr double kFarthestV = 40.0, kSettledV = 1e-7;
    for (int round = 0; round < kRounds; ++round) {
        Nodal step = linear;
        Vector right = part * linear.supplies(n);
        for (const auto& t : n.tubes) {
            const double vg = across(x, t.grid, t.cathode), vp = across(x, t.plate, t.cathode);
            const auto [i, g] = tubePoint(t.law, vg, vp);
            step.conductance(t.grid, t.cathode, g.gridByGrid);
            step.conductance(t.plate, t.cathode, g.plateByPlate);
            step.transconductance(t.plate, t.cathode, t.grid, t.cathode, g.plateByGrid);
            right += (i.grid - g.gridByGrid * vg) * linear.current(t.grid, t.cathode);
            right += (i.plate - g.plateByGrid * vg - g.plateByPlate * vp) * linear.current(t.plate, t.cathode);
        }
        Vector by = step.matrix().partialPivLu().solve(right) - x;
        const double farthest = by.head(n.nodes()).cwiseAbs().maxCoeff();
        if (farthest > kFarthestV) by *= kFarthestV / farthest;
        x += by;
        if (farthest < kSettledV) return true;
    }
    return false;
}

/// Node voltages at rest; capacitors carry nothing. Where the whole supply at once is too much, it comes up in steps.
Vector restOf(const Netlist& n)
{
    constexpr int kSteps = 40;
    Nodal linear(n);
    for (const auto& l : n.inductors) linear.conductance(l.a, l.b, kWireS);
    Vector x = Vector::Zero(linear.matrix().rows());
    if (settle(n, linear, 1.0, x)) return x;
    x.setZero();
    for (int s = 1; s <= kSteps; ++s) settle(n, linear, double(s) / kSteps, x);
    return x;
}

/// A part that remembers: a capacitor or an inductor by its trapezoidal companion, a conductance beside a current
/// source, the history. A capacitor's next history is twice its conductance times its voltage, less the one of now; an
/// inductor's, plus.
struct Keeper {
    Netlist::Node a, b;
    double siemens, own; ///< own: what the history of now adds to the next
    bool isInductor() const { return own > 0.0; }
};

std::vector<Keeper> keepersOf(const Netlist& n, double rateHz)
{
    std::vector<Keeper> out;
    for (const auto& c : n.capacitors) out.push_back({c.a, c.b, 2.0 * c.farad * rateHz, -1.0});
    for (const auto& l : n.inductors) out.push_back({l.a, l.b, 0.5 / (l.henry * rateHz), 1.0});
    return out;
}

/// All that is linear within a step, the plates' conductances about rest among it.
struct Step {
    std::vector<Keeper> keepers;
    std::vector<double> plateS; ///< of each tube
    Nodal nodal;

    /// @param rest  node voltages
    Step(const Netlist& n, double rateHz, const Vector& rest) : keepers(keepersOf(n, rateHz)), nodal(n)
    {
        for (const auto& t : n.tubes) {
            const double vg = across(rest, t.grid, t.cathode), vp = across(rest, t.plate, t.cathode);
            plateS.push_back(double(float(tubeSlopes(t.law, vg, vp).plateByPlate)));
            nodal.conductance(t.plate, t.cathode, plateS.back());
        }
        for (const Keeper& k : keepers) nodal.conductance(k.a, k.b, k.siemens);
    }
};

bool hasLoad(const CircuitForm::Ends& ends) { return std::isfinite(ends.loadOhm); }

/// A section with what it sees at its ends: the source becomes its input, that behind the load its last supply.
Netlist withEnds(Netlist n, const CircuitForm::Ends& ends)
{
    if (ends.sourceOhm > 0.0) {
        const Netlist::Node source = n.node();
        n.resistor(source, n.input, ends.sourceOhm);
        n.setInput(source);
    }
    if (hasLoad(ends)) {
        const Netlist::Node load = n.node();
        n.resistor(n.output, load, ends.loadOhm);
        n.supply(load, 0.0);
    }
    return n;
}

/// What a section shows to the one before.
double inputOhm(const Netlist& section, double rateHz, double loadOhm)
{
    const Netlist n = withEnds(section, {.loadOhm = loadOhm});
    const Nodal nodal = Step(n, rateHz, restOf(n)).nodal;
    const Vector x = nodal.matrix().partialPivLu().solve(nodal.input());
    return 1.0 / std::abs(x[nodal.inputRow()]);
}

/// And to the one behind.
double outputOhm(const Netlist& section, double rateHz, double sourceOhm)
{
    const Netlist n = withEnds(section, {.sourceOhm = sourceOhm});
    const Vector rest = restOf(n);
    assert(std::abs(across(rest, n.output, Netlist::kGround)) < 1e-3);
    const Nodal nodal = Step(n, rateHz, rest).nodal;
    const Vector x = nodal.matrix().partialPivLu().solve(nodal.current(Netlist::kGround, n.output));
    return across(x, n.output, Netlist::kGround);
}

/// One number that goes into a step: a keeper's history, a tube's current, the input.
struct Slot {
    enum class Kind { History, GridCurrent, PlateCurrent, Source, Load } kind;
    std::size_t of; ///< which keeper or tube
};

/// First the histories; then the sources; then the currents, two of each tube.
std::vector<Slot> slotsOf(const Netlist& n, const std::vector<Keeper>& keepers)
{
    std::vector<Slot> out;
    for (std::size_t k = 0; k < keepers.size(); ++k) out.push_back({Slot::Kind::History, k});
    out.push_back({Slot::Kind::Source, 0});
    out.push_back({Slot::Kind::Load, 0});
    for (std::size_t t = 0; t < n.tubes.size(); ++t) {
        out.push_back({Slot::Kind::GridCurrent, t});
        out.push_back({Slot::Kind::PlateCurrent, t});
    }
    return out;
}

/// The histories as sums of the circuit's own motions, each of which, without currents, only fades or swings by itself:
/// the next ones take a product for each of them instead of one for each two. Source: the modal form of a linear
/// system, e.g. Kailath 1980, Linear Systems.
struct Motions {
    Matrix toHistories, fromHistories; ///< from motions, and back
    std::vector<double> keeps;         ///< of each motion, what the next sample has of it
    std::vector<double> swings;        ///< and what of its neighbour; two neighbours swing together

    /// @param next    what each history has of each in the sample before
    /// @param scales  of the histories, so that all hold energy alike
    Motions(const Matrix& next, const Vector& scales)
    {
        const long n = next.rows();
        const Eigen::EigenSolver<Matrix> found(scales.cwiseInverse().asDiagonal() * next * scales.asDiagonal());
        const Matrix values = found.pseudoEigenvalueMatrix(), vectors = found.pseudoEigenvectors();
        std::vector<long> order; // those that swing first, so that they stand in pairs
        for (const bool isSwinging : {true, false})
            for (long i = 0; i < n; ++i)
                if ((found.eigenvalues()[i].imag() != 0.0) == isSwinging) order.push_back(i);
        toHistories.resize(n, n);
        for (long i = 0; i < n; ++i) {
            const long from = order[std::size_t(i)];
            toHistories.col(i) = vectors.col(from);
            keeps.push_back(values(from, from));
            swings.push_back(found.eigenvalues()[from].imag() == 0.0 ? 0.0
                             : i % 2 == 0                            ? values(from, from + 1)
                                                                     : values(from, from - 1));
        }
        toHistories = scales.asDiagonal() * toHistories;
        fromHistories = toHistories.inverse();
    }
    /// What a row has of each motion. @param row  what it has of each history first
    std::vector<double> ofMotions(const std::vector<double>& row) const
    {
        std::vector<double> out(keeps.size());
        Eigen::RowVectorXd::Map(out.data(), toHistories.cols()) =
            Eigen::RowVectorXd::Map(row.data(), toHistories.rows()) * toHistories;
        return out;
    }
};

} // namespace

std::vector<CircuitForm> CircuitForm::ofSections(std::span<const Netlist> sections, double rateHz)
{
    std::vector<Ends> ends(sections.size());
    for (std::size_t i = sections.size(); i-- > 1;)
        ends[i - 1].loadOhm = inputOhm(sections[i], rateHz, ends[i].loadOhm);
    for (std::size_t i = 1; i < sections.size(); ++i)
        ends[i].sourceOhm = outputOhm(sections[i - 1], rateHz, ends[i - 1].sourceOhm);
    std::vector<CircuitForm> out;
    for (std::size_t i = 0; i < sections.size(); ++i) out.push_back(of(sections[i], rateHz, ends[i]));
    return out;
}

CircuitForm CircuitForm::of(const Netlist& netlist, double rateHz, const Ends& ends)
{
    const Netlist n = withEnds(netlist, ends);
    CircuitForm form;
    const Vector rest = restOf(n);
    const auto [keepers, plateS, nodal] = Step(n, rateHz, rest);
    const auto slots = slotsOf(n, keepers);
    form.tubes = n.tubes.size();
    std::vector<double> restCurrent;
    for (std::size_t t = 0; t < form.tubes; ++t) {
        const auto& [plate, grid, cathode, law] = n.tubes[t];
        const double vg = across(rest, grid, cathode), vp = across(rest, plate, cathode);
        form.restVoltages.push_back({vg, vp});
        form.restCurrents.push_back(tubeCurrents(law, vg, vp));
        restCurrent.push_back(form.restCurrents.back().grid);
        restCurrent.push_back(form.restCurrents.back().plate - plateS[t] * vp);
    }
    const auto solved = nodal.matrix().partialPivLu();

    // What each slot does to all nodes; the constant comes last.
    std::vector<Vector> effects;
    form.motions = keepers.size();
    for (const Slot& slot : slots)
        effects.push_back(solved.solve([&]() -> Vector {
            switch (slot.kind) {
            case Slot::Kind::GridCurrent: return nodal.current(n.tubes[slot.of].grid, n.tubes[slot.of].cathode);
            case Slot::Kind::PlateCurrent: return nodal.current(n.tubes[slot.of].plate, n.tubes[slot.of].cathode);
            case Slot::Kind::Source: return nodal.input();
            case Slot::Kind::Load:
                return hasLoad(ends) ? nodal.lastSupply(n) : Vector(Vector::Zero(nodal.matrix().rows()));
            case Slot::Kind::History: break;
            }
            const Keeper& k = keepers[slot.of];
            return k.isInductor() ? nodal.current(k.a, k.b) : nodal.current(k.b, k.a);
        }()));
    effects.push_back(solved.solve(nodal.supplies(n)));
    const auto rowAcross = [&](Netlist::Node a, Netlist::Node b, double scale) {
        std::vector<double> out;
        for (const Vector& x : effects) out.push_back(scale * across(x, a, b));
        return out;
    };

    double supplyV = 0.0;
    for (const auto& b : n.supplies) supplyV = std::max(supplyV, b.volts);
    std::vector<TubeTable::Spec> specs;
    for (std::size_t t = 0; t < form.tubes; ++t) {
        const auto& tube = n.tubes[t];
        auto grid = rowAcross(tube.grid, tube.cathode, 1.0), plate = rowAcross(tube.plate, tube.cathode, 1.0);
        const std::size_t g = form.firstCurrent() + 2 * t, p = g + 1;
        const TubeTable::Loading own{{{grid[g], grid[p]}, {plate[g], plate[p]}}};
        const double gridA = restCurrent[2 * t], plateA = restCurrent[2 * t + 1];
        form.restPorts.push_back({form.restVoltages[t][0] - own[0][0] * gridA - own[0][1] * plateA,
                                  form.restVoltages[t][1] - own[1][0] * gridA - own[1][1] * plateA});
        specs.push_back({tube.law, own, plateS[t], std::round(100.0 * form.restPorts[t][0]) / 100.0,
                         std::round(form.restPorts[t][1]), spanOf(tube.law) * supplyV, bentOf(tube.law, rateHz)});
        for (const std::size_t slot : {g, p}) grid[slot] = plate[slot] = 0.0;
        form.voltages.push_back(std::move(grid));
        form.voltages.push_back(std::move(plate));
    }
    form.tables = tubeTables(specs);

    const long histories = long(form.motions);
    std::vector<std::vector<double>> nexts;
    Matrix next(histories, histories);
    Vector scales(histories), restHistories(histories);
    for (long i = 0; i < histories; ++i) {
        const Keeper& k = keepers[std::size_t(i)];
        nexts.push_back(rowAcross(k.a, k.b, 2.0 * k.siemens));
        nexts.back()[std::size_t(i)] += k.own;
        next.row(i) = Eigen::Map<const Eigen::RowVectorXd>(nexts.back().data(), histories);
        scales[i] = std::sqrt(k.siemens);
        restHistories[i] = (k.isInductor() ? kWireS : k.siemens) * across(rest, k.a, k.b);
    }
    const Motions motions(next, scales);
    // What would stand at either end without the other section: the voltage there, and what the current between them
    // drops within.
    auto output = rowAcross(n.output, Netlist::kGround, 1.0);
    std::vector<double> back(output.size());
    if (hasLoad(ends)) {
        const double within = 1.0 / (1.0 - output[form.motions + 1]); // of the load's source nothing is left
        for (double& value : output) value *= within;
        output[form.motions + 1] = 0.0;
    }
    if (ends.sourceOhm > 0.0) {
        back = rowAcross(netlist.input, Netlist::kGround, 1.0);
        const double within = 1.0 / (1.0 - back[form.motions]);
        for (double& value : back) value *= within;
        back[form.motions] = 0.0;
    }
    form.ahead = motions.ofMotions(output);
    form.back = motions.ofMotions(back);
    for (auto& row : form.voltages) std::ranges::copy(motions.ofMotions(row), row.begin());
    // Of the next motions only what currents, input and constant do.
    form.given.assign(form.motions, std::vector<double>(slots.size() + 1 - form.motions));
    for (std::size_t i = 0; i < form.motions; ++i)
        for (std::size_t column = 0; column < form.given[i].size(); ++column)
            for (std::size_t k = 0; k < form.motions; ++k)
                form.given[i][column] += motions.fromHistories(long(i), long(k)) * nexts[k][form.motions + column];
    for (const auto& row : {output, back}) form.given.emplace_back(row.begin() + histories, row.end());
    form.restSlots.assign(slots.size(), 0.0);
    Vector::Map(form.restSlots.data(), histories) = motions.fromHistories * restHistories;
    std::ranges::copy(restCurrent, form.restSlots.begin() + long(form.firstCurrent()));
    form.keeps = motions.keeps;
    form.swings = motions.swings;
    for (long i = 0; i < histories; ++i)
        for (long k = 0; k < histories; ++k) {
            form.toHistories.push_back(motions.toHistories(i, k));
            form.fromHistories.push_back(motions.fromHistories(i, k));
        }
    return form;
}

double CircuitForm::longestSeconds(double rateHz) const noexcept
{
    constexpr double kMostS = 10.0; // capacitors in a ring with a source never fall
    double most = std::exp(-1.0);
    for (std::size_t i = 0; i < motions; ++i) most = std::max(most, std::hypot(keeps[i], swings[i]));
    return most < 1.0 ? std::min(kMostS, -1.0 / (rateHz * std::log(most))) : kMostS;
}

} // namespace gristle::core
