#include "core/rig/circuit/circuit_solver.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cassert>
#include <cmath>
#include <functional>
#include <optional>

// Chosen when the program is loaded.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) &&               \
    !defined(__SANITIZE_THREAD__)
#define GRISTLE_FOR_BOTH_PROCESSORS __attribute__((target_clones("arch=x86-64-v3", "default")))
#else
#define GRISTLE_FOR_BOTH_PROCESSORS
#endif

namespace gristle::core {

namespace {

using Matrix = Eigen::MatrixXd;
using Vector = Eigen::VectorXd;

/// How far a plate's voltage without its current goes from that at rest, in parts of the supply. A transformer swings a
/// plate up to twice the supply.
double spanOf(const TubeLaw& law) { return std::holds_alternative<Triode>(law) ? 0.5 : 1.6; }

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
    Vector input() const { return Vector::Unit(matrix_.rows(), nodes_); }
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

constexpr double kNothingV = 1e-7, kNothingInAStepV = 1e-12, kMostInV = 50.0, kMostV = 500.0;

/// The most that a tube's electrodes carry, in amperes.
double mostOf(const TubeLaw& law) { return std::holds_alternative<Triode>(law) ? 0.01 : 0.5; }
constexpr double kMostInductorA = 2.0;
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

/// One number that goes into a step: the input, a keeper's history, a tube's current.
struct Slot {
    enum class Kind { Input, History, GridCurrent, PlateCurrent } kind;
    std::size_t of; ///< which keeper or tube
    Netlist::Node place;
};

/// In the order of the nodes, which is about that of the signal: what belongs together lies together.
std::vector<Slot> slotsOf(const Netlist& n, const std::vector<Keeper>& keepers)
{
    std::vector<Slot> out{{Slot::Kind::Input, 0, 0}};
    for (std::size_t k = 0; k < keepers.size(); ++k)
        out.push_back({Slot::Kind::History, k, std::max(keepers[k].a, keepers[k].b)});
    for (std::size_t t = 0; t < n.tubes.size(); ++t)
        for (const auto kind : {Slot::Kind::GridCurrent, Slot::Kind::PlateCurrent})
            out.push_back({kind, t, n.tubes[t].grid});
    std::ranges::stable_sort(out, {}, &Slot::place);
    return out;
}

/// Rows of a matrix times the slots, eight rows at a time in registers. Slots that none of the eight sees are left out,
/// but for what they do at rest.
class SparseRows {
public:
    static constexpr std::size_t kHigh = 8;

    /// @param rows  each as long as the slots, and its constant behind
    SparseRows(const std::vector<std::vector<double>>& rows, const std::vector<double>& rest,
               const std::function<bool(std::size_t, std::size_t)>& counts)
    {
        for (std::size_t at = 0; at < rows.size(); at += kHigh) {
            const std::size_t high = std::min(kHigh, rows.size() - at), slots = rows[at].size() - 1;
            Block block;
            const auto add = [&](std::size_t slot) {
                for (std::size_t r = 0; r < kHigh; ++r) block.values.push_back(r < high ? rows[at + r][slot] : 0.0);
            };
            add(slots);
            for (std::size_t i = 0; i < slots; ++i) {
                bool any = false;
                for (std::size_t r = 0; r < high; ++r) any = any || counts(at + r, i);
                if (any) {
                    block.slots.push_back(std::uint32_t(i));
                    add(i);
                } else {
                    for (std::size_t r = 0; r < high; ++r) block.values[r] += rows[at + r][i] * rest[i];
                }
            }
            blocks_.push_back(std::move(block));
        }
    }
    std::size_t size() const noexcept { return blocks_.size() * kHigh; } ///< of the result, padded
    /// Inlined, so that it is made for the processor that its caller is made for.
    [[gnu::always_inline]] inline void times(const double* slots, double* out) const noexcept
    {
        // Four lanes of a vector register of its own compiler's making; unaligned, and as wide as the processor has
        // them.
        typedef double Lanes __attribute__((vector_size(32), aligned(8)));
        for (const Block& b : blocks_) {
            // Two slots at a time: a sum waits for the one before it for as long as four slots take otherwise.
            const Lanes* lanes = reinterpret_cast<const Lanes*>(b.values.data());
            Lanes low = lanes[0], high = lanes[1], low2{}, high2{};
            const std::uint32_t* from = b.slots.data();
            const std::size_t n = b.slots.size();
            lanes += 2;
            for (std::size_t i = 0; i < n / 2; ++i, from += 2, lanes += 4) {
                low += lanes[0] * slots[from[0]];
                high += lanes[1] * slots[from[0]];
                low2 += lanes[2] * slots[from[1]];
                high2 += lanes[3] * slots[from[1]];
            }
            if (n % 2 == 1) {
                low += lanes[0] * slots[from[0]];
                high += lanes[1] * slots[from[0]];
            }
            *reinterpret_cast<Lanes*>(out) = low + low2;
            *reinterpret_cast<Lanes*>(out + 4) = high + high2;
            out += kHigh;
        }
    }

private:
    struct Block {
        std::vector<std::uint32_t> slots;
        std::vector<double> values; ///< the constants, then those of each slot, kHigh of each
    };
    std::vector<Block> blocks_;
};

/// What a later tube's voltages get from an earlier one's currents.
struct Coupling {
    std::size_t later;
    double gridByGrid, gridByPlate, plateByGrid, plateByPlate;
};

/// A tube's port in time. Its current is the mean over the straight line that its voltages go along from the last
/// sample to this one, which keeps most of what would fold from far above out of the circuit; that is half a sample
/// late, so a parabola through the last three means gives the value of now. Source: Parker, Zavalishin and Le Bivic
/// 2016, Reducing the aliasing of nonlinear waveshaping using continuous-time convolution; the mean by the trapezoidal
/// rule in quarters, as a current of two voltages has no antiderivative in a table.
struct Port {
    using Pair = std::array<double, 2>; ///< of grid and plate

    double grid = 0.0, plate = 0.0;        ///< volts without the currents
    Pair now{}, mean{}, before{}, third{}; ///< the current there; means of the last line and of the one before it
    Pair offset{};                         ///< what the table lacks at rest

    /// So that a circuit at rest stays there: `now` is what the law says.
    [[gnu::always_inline]] inline void rest(const TubeTable& table) noexcept
    {
        const Pair found = table.at(grid, plate);
        for (std::size_t j = 0; j < 2; ++j) {
            offset[j] = now[j] - found[j];
            mean[j] = before[j] = third[j] = now[j];
        }
    }
    [[gnu::always_inline]] inline Pair currents(const TubeTable& table, double toGrid, double toPlate) noexcept
    {
        constexpr double kStraightA = 1e-6; // a line between currents so near is one
        Pair next = table.at(toGrid, toPlate), line, out;
        for (std::size_t j = 0; j < 2; ++j) next[j] += offset[j], line[j] = 0.5 * (now[j] + next[j]);
        if (std::abs(next[0] - now[0]) + std::abs(next[1] - now[1]) > kStraightA) {
            const double byGrid = 0.25 * (toGrid - grid), byPlate = 0.25 * (toPlate - plate);
            const Pair a = table.at(grid + byGrid, plate + byPlate),
                       b = table.at(grid + 2.0 * byGrid, plate + 2.0 * byPlate),
                       c = table.at(toGrid - byGrid, toPlate - byPlate);
            for (std::size_t j = 0; j < 2; ++j) line[j] = 0.25 * (line[j] + a[j] + b[j] + c[j] + 3.0 * offset[j]);
        }
        for (std::size_t j = 0; j < 2; ++j) {
            // A parabola through four currents whose neighbours have these means, at its end.
            out[j] = 1.875 * line[j] - 1.375 * mean[j] + 0.625 * before[j] - 0.125 * third[j];
            third[j] = before[j];
            before[j] = mean[j];
        }
        mean = line, now = next, grid = toGrid, plate = toPlate;
        return out;
    }
};

} // namespace

struct CircuitSolver::State {
    std::size_t tubes = 0;
    std::optional<SparseRows> voltages; ///< two of each tube, without its own currents
    std::optional<SparseRows> nexts;    ///< the histories in the order of their slots, then the output
    std::size_t output = 0;             ///< where that is
    std::vector<std::size_t> historySlots, currentSlots;
    std::size_t inputSlot = 0;
    std::vector<std::vector<Coupling>> couplings; ///< of each tube
    std::vector<std::shared_ptr<const TubeTable>> tables;
    std::vector<Port> restPorts;
    std::vector<double> restSlots;
    double restOut = 0.0;
    std::vector<TubeCurrents> restCurrents;
    std::vector<std::array<double, 2>> restVoltages;

    std::vector<Port> ports;
    std::vector<double> slots, volts, next;
    std::vector<double> before, last, third; ///< the currents of the samples before

    void reset() noexcept
    {
        slots = restSlots;
        ports = restPorts;
        for (std::size_t i = 0; i < 2 * tubes; ++i) before[i] = last[i] = third[i] = slots[currentSlots[i]];
    }
    void rest() noexcept;
    double step(double in) noexcept;
};

CircuitSolver::CircuitSolver(const Netlist& n, double rateHz) : state_(std::make_unique<State>())
{
    State& s = *state_;
    const Vector rest = restOf(n);
    const auto keepers = keepersOf(n, rateHz);
    const auto slots = slotsOf(n, keepers);
    s.tubes = n.tubes.size();
    Nodal nodal(n);
    std::vector<double> plateS, restCurrent;
    for (const auto& t : n.tubes) {
        const double vg = across(rest, t.grid, t.cathode), vp = across(rest, t.plate, t.cathode);
        plateS.push_back(double(float(tubeSlopes(t.law, vg, vp).plateByPlate)));
        nodal.conductance(t.plate, t.cathode, plateS.back());
        s.restVoltages.push_back({vg, vp});
        s.restCurrents.push_back(tubeCurrents(t.law, vg, vp));
        restCurrent.push_back(s.restCurrents.back().grid);
        restCurrent.push_back(s.restCurrents.back().plate - plateS.back() * vp);
    }
    for (const Keeper& k : keepers) nodal.conductance(k.a, k.b, k.siemens);
    const auto solved = nodal.matrix().partialPivLu();

    // What each slot does to all nodes, and the most that it will hold; the constant comes last.
    std::vector<Vector> effects;
    std::vector<double> most;
    s.currentSlots.resize(2 * s.tubes);
    for (std::size_t i = 0; i < slots.size(); ++i) {
        const Slot& slot = slots[i];
        const auto currentOf = [&] {
            switch (slot.kind) {
            case Slot::Kind::Input: s.inputSlot = i; return nodal.input();
            case Slot::Kind::GridCurrent:
                s.currentSlots[2 * slot.of] = i;
                return nodal.current(n.tubes[slot.of].grid, n.tubes[slot.of].cathode);
            case Slot::Kind::PlateCurrent:
                s.currentSlots[2 * slot.of + 1] = i;
                return nodal.current(n.tubes[slot.of].plate, n.tubes[slot.of].cathode);
            case Slot::Kind::History: break;
            }
            s.historySlots.push_back(i);
            const Keeper& k = keepers[slot.of];
            return k.isInductor() ? nodal.current(k.a, k.b) : nodal.current(k.b, k.a);
        };
        effects.push_back(solved.solve(currentOf()));
        const bool isCapacitor = slot.kind == Slot::Kind::History && !keepers[slot.of].isInductor();
        most.push_back(slot.kind == Slot::Kind::Input     ? kMostInV
                       : isCapacitor                      ? kMostV * keepers[slot.of].siemens
                       : slot.kind == Slot::Kind::History ? kMostInductorA
                                                          : mostOf(n.tubes[slot.of].law));
    }
    effects.push_back(solved.solve(nodal.supplies(n)));
    const auto rowAcross = [&](Netlist::Node a, Netlist::Node b, double scale) {
        std::vector<double> out;
        for (const Vector& x : effects) out.push_back(scale * across(x, a, b));
        return out;
    };

    double supplyV = 0.0;
    for (const auto& b : n.supplies) supplyV = std::max(supplyV, b.volts);
    std::vector<std::vector<double>> voltages, nexts;
    std::vector<TubeTable::Spec> specs;
    s.couplings.resize(s.tubes);
    for (std::size_t t = 0; t < s.tubes; ++t) {
        const auto& tube = n.tubes[t];
        auto grid = rowAcross(tube.grid, tube.cathode, 1.0), plate = rowAcross(tube.plate, tube.cathode, 1.0);
        const auto with = [&](std::size_t m) {
            const std::size_t g = s.currentSlots[2 * m], p = s.currentSlots[2 * m + 1];
            return TubeTable::Loading{{{grid[g], grid[p]}, {plate[g], plate[p]}}};
        };
        const auto own = with(t);
        const double gridA = restCurrent[2 * t], plateA = restCurrent[2 * t + 1];
        Port port;
        port.grid = s.restVoltages[t][0] - own[0][0] * gridA - own[0][1] * plateA;
        port.plate = s.restVoltages[t][1] - own[1][0] * gridA - own[1][1] * plateA;
        port.now = {gridA, plateA};
        s.restPorts.push_back(port);
        specs.push_back({tube.law, own, plateS[t], std::round(port.plate), spanOf(tube.law) * supplyV, float(plateA)});
        for (std::size_t m = 0; m < t; ++m) {
            const auto c = with(m);
            if (mostOf(n.tubes[m].law) *
                    std::max({std::abs(c[0][0]), std::abs(c[0][1]), std::abs(c[1][0]), std::abs(c[1][1])}) >
                kNothingV)
                s.couplings[m].push_back({t, c[0][0], c[0][1], c[1][0], c[1][1]});
        }
        for (const std::size_t slot : {s.currentSlots[2 * t], s.currentSlots[2 * t + 1]})
            grid[slot] = plate[slot] = 0.0;
        voltages.push_back(std::move(grid));
        voltages.push_back(std::move(plate));
    }
    s.tables = tubeTables(specs);
    s.rest();
    std::vector<double> nothing; // below which a row does not see a slot, in its own unit
    s.restSlots.assign(slots.size(), 0.0);
    for (const std::size_t i : s.historySlots) {
        const Keeper& k = keepers[slots[i].of];
        nexts.push_back(rowAcross(k.a, k.b, 2.0 * k.siemens));
        nexts.back()[i] += k.own;
        nothing.push_back(kNothingInAStepV * k.siemens);
        s.restSlots[i] = (k.isInductor() ? kWireS : k.siemens) * across(rest, k.a, k.b);
    }
    s.output = nexts.size();
    nexts.push_back(rowAcross(n.output, Netlist::kGround, 1.0));
    nothing.push_back(kNothingV);
    for (std::size_t i = 0; i < 2 * s.tubes; ++i) s.restSlots[s.currentSlots[i]] = restCurrent[i];
    s.voltages.emplace(voltages, s.restSlots,
                       [&](std::size_t r, std::size_t i) { return std::abs(voltages[r][i]) * most[i] > kNothingV; });
    s.nexts.emplace(nexts, s.restSlots,
                    [&](std::size_t r, std::size_t i) { return std::abs(nexts[r][i]) * most[i] > nothing[r]; });
    s.volts.resize(s.voltages->size());
    s.next.resize(s.nexts->size());
    for (auto* currents : {&s.before, &s.last, &s.third}) currents->resize(2 * s.tubes);
    s.reset();
    s.restOut = step(0.0);
    s.reset();
}

CircuitSolver::~CircuitSolver() = default;
CircuitSolver::CircuitSolver(CircuitSolver&&) noexcept = default;
CircuitSolver& CircuitSolver::operator=(CircuitSolver&&) noexcept = default;

/// The tables' shortcomings at rest, by the very arithmetic of step().
GRISTLE_FOR_BOTH_PROCESSORS
void CircuitSolver::State::rest() noexcept
{
    for (std::size_t t = 0; t < tubes; ++t) restPorts[t].rest(*tables[t]);
}

GRISTLE_FOR_BOTH_PROCESSORS
double CircuitSolver::State::step(double in) noexcept
{
    slots[inputSlot] = in;
    // What the tubes' currents will be, a parabola for plates, a line for grids: what a grid draws comes back within
    // the step more strongly, and the higher the order, the more of the highest frequencies it would feed back.
    for (std::size_t i = 0; i < 2 * tubes; ++i)
        slots[currentSlots[i]] = i % 2 == 1 ? 3.0 * (before[i] - last[i]) + third[i] : 2.0 * before[i] - last[i];
    third.swap(last);
    last.swap(before);
    voltages->times(slots.data(), volts.data());
    for (std::size_t t = 0; t < tubes; ++t) {
        const auto found = ports[t].currents(*tables[t], volts[2 * t], volts[2 * t + 1]);
        double &grid = slots[currentSlots[2 * t]], &plate = slots[currentSlots[2 * t + 1]];
        const double byGrid = found[0] - grid, byPlate = found[1] - plate;
        for (const Coupling& c : couplings[t]) {
            volts[2 * c.later] += c.gridByGrid * byGrid + c.gridByPlate * byPlate;
            volts[2 * c.later + 1] += c.plateByGrid * byGrid + c.plateByPlate * byPlate;
        }
        before[2 * t] = grid = found[0];
        before[2 * t + 1] = plate = found[1];
    }
    nexts->times(slots.data(), next.data());
    for (std::size_t k = 0; k < historySlots.size(); ++k) slots[historySlots[k]] = next[k];
    return next[output] - restOut;
}

double CircuitSolver::step(double volts) noexcept { return state_->step(volts); }
void CircuitSolver::takeOver(const CircuitSolver& other) noexcept
{
    State& s = *state_;
    const State& o = *other.state_;
    if (s.tubes != o.tubes || s.slots.size() != o.slots.size() || s.historySlots != o.historySlots ||
        s.currentSlots != o.currentSlots)
        return;
    // Charges and currents are what they were; only the resistors between them are others.
    std::ranges::copy(o.slots, s.slots.begin());
    std::ranges::copy(o.before, s.before.begin());
    std::ranges::copy(o.last, s.last.begin());
    std::ranges::copy(o.third, s.third.begin());
    for (std::size_t t = 0; t < s.tubes; ++t) {
        const auto offset = s.ports[t].offset; // belongs to the table
        s.ports[t] = o.ports[t];
        s.ports[t].offset = offset;
    }
}

void CircuitSolver::reset() noexcept { state_->reset(); }
double CircuitSolver::restVolts() const noexcept { return state_->restOut; }
std::vector<TubeCurrents> CircuitSolver::restCurrents() const { return state_->restCurrents; }
std::vector<std::array<double, 2>> CircuitSolver::restVoltages() const { return state_->restVoltages; }

} // namespace gristle::core
