#include "core/rig/circuit/circuit_solver.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cassert>
#include <cmath>
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

/// One number that goes into a step: a keeper's history, a tube's current, the input.
struct Slot {
    enum class Kind { History, GridCurrent, PlateCurrent, Input } kind;
    std::size_t of; ///< which keeper or tube
};

/// First the histories, in the order of the nodes, which is about that of the signal, so that what belongs together
/// lies together; then the currents, two of each tube; the input last.
std::vector<Slot> slotsOf(const Netlist& n, const std::vector<Keeper>& keepers)
{
    std::vector<Slot> out;
    for (std::size_t k = 0; k < keepers.size(); ++k) out.push_back({Slot::Kind::History, k});
    std::ranges::stable_sort(out, {},
                             [&](const Slot& slot) { return std::max(keepers[slot.of].a, keepers[slot.of].b); });
    for (std::size_t t = 0; t < n.tubes.size(); ++t) {
        out.push_back({Slot::Kind::GridCurrent, t});
        out.push_back({Slot::Kind::PlateCurrent, t});
    }
    out.push_back({Slot::Kind::Input, 0});
    return out;
}

/// Rows of a matrix times the slots, sixteen rows at a time in registers.
class Rows {
public:
    static constexpr std::size_t kHigh = 16;
    // The widest register that most processors have; unaligned.
    typedef double Lanes __attribute__((vector_size(32), aligned(8)));
    static constexpr std::size_t kLanes = 4;

    /// @param rows  each as long as the slots, and its constant behind
    explicit Rows(const std::vector<std::vector<double>>& rows) : slots_(rows[0].size() - 1)
    {
        for (std::size_t at = 0; at < rows.size(); at += kHigh)
            for (std::size_t i = 0; i <= slots_; ++i)
                for (std::size_t r = at; r < at + kHigh; ++r)
                    values_.push_back(r < rows.size() ? rows[r][i == 0 ? slots_ : i - 1] : 0.0);
    }
    std::size_t size() const noexcept { return values_.size() / (slots_ + 1); } ///< of the result, padded
    static Lanes& at(double* from) noexcept { return *reinterpret_cast<Lanes*>(from); }
    static const Lanes& at(const double* from) noexcept { return *reinterpret_cast<const Lanes*>(from); }
    /// Inlined, so that it is made for the processor that its caller is made for.
    [[gnu::always_inline]] inline void times(const double* slots, double* out) const noexcept
    {
        constexpr std::size_t kWide = kHigh / kLanes;
        const Lanes* lanes = reinterpret_cast<const Lanes*>(values_.data());
        for (double* const end = out + size(); out < end; out += kHigh) {
            // Two slots at a time: a sum waits for the one before it for as long as two slots take otherwise.
            Lanes sum[kWide], odd[kWide]{};
            for (std::size_t r = 0; r < kWide; ++r) sum[r] = *lanes++;
            std::size_t i = 0;
            for (; i + 1 < slots_; i += 2, lanes += 2 * kWide) {
                const double even = slots[i], next = slots[i + 1];
                for (std::size_t r = 0; r < kWide; ++r) {
                    sum[r] += lanes[r] * even;
                    odd[r] += lanes[kWide + r] * next;
                }
            }
            if (i < slots_)
                for (std::size_t r = 0; r < kWide; ++r) sum[r] += *lanes++ * slots[i];
            for (std::size_t r = 0; r < kWide; ++r) at(out + kLanes * r) = sum[r] + odd[r];
        }
    }

private:
    std::size_t slots_;
    std::vector<double> values_; ///< of kHigh rows after the other: the constants, then those of each slot
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
        constexpr double kStraightA = 1e-6, kBentA = 1e-5; // off a straight line
        Pair next = table.at(toGrid, toPlate), line, out;
        for (std::size_t j = 0; j < 2; ++j) next[j] += offset[j], line[j] = 0.5 * (now[j] + next[j]);
        if (std::abs(next[0] - now[0]) + std::abs(next[1] - now[1]) > kStraightA) {
            const double byGrid = 0.25 * (toGrid - grid), byPlate = 0.25 * (toPlate - plate);
            Pair middle = table.at(grid + 2.0 * byGrid, plate + 2.0 * byPlate);
            for (std::size_t j = 0; j < 2; ++j) middle[j] += offset[j] - line[j];
            if (std::abs(middle[0]) + std::abs(middle[1]) < kBentA) {
                for (std::size_t j = 0; j < 2; ++j) line[j] += 2.0 / 3.0 * middle[j];
            } else {
                const Pair a = table.at(grid + byGrid, plate + byPlate),
                           c = table.at(toGrid - byGrid, toPlate - byPlate);
                for (std::size_t j = 0; j < 2; ++j)
                    line[j] += 0.25 * (a[j] + c[j] + 2.0 * (offset[j] - line[j]) + middle[j]);
            }
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
    std::optional<Rows> voltages; ///< two of each tube, without its own currents
    std::optional<Rows> nexts;    ///< the histories, then the output
    std::size_t histories = 0;    ///< the first slots; then two currents of each tube, then the input
    /// What the tubes' voltages get from a current of each tube, where they are later in the signal; ohms, as long as
    /// `volts` for each slot of a current.
    std::vector<double> couplings;
    std::vector<std::shared_ptr<const TubeTable>> tables;
    std::vector<Port> restPorts;
    std::vector<double> restSlots;
    double restOut = 0.0;
    std::vector<TubeCurrents> restCurrents;
    std::vector<std::array<double, 2>> restVoltages;

    std::vector<Port> ports;
    std::vector<double> slots, next, volts;
    std::vector<double> before, last, third; ///< the currents of the samples before

    std::size_t currentSlot(std::size_t tube) const noexcept { return histories + 2 * tube; } ///< the grid's
    void reset() noexcept
    {
        std::ranges::copy(restSlots, slots.begin());
        ports = restPorts;
        for (std::size_t i = 0; i < 2 * tubes; ++i) before[i] = last[i] = third[i] = slots[histories + i];
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

    // What each slot does to all nodes; the constant comes last.
    std::vector<Vector> effects;
    s.histories = keepers.size();
    for (const Slot& slot : slots)
        effects.push_back(solved.solve([&] {
            switch (slot.kind) {
            case Slot::Kind::GridCurrent: return nodal.current(n.tubes[slot.of].grid, n.tubes[slot.of].cathode);
            case Slot::Kind::PlateCurrent: return nodal.current(n.tubes[slot.of].plate, n.tubes[slot.of].cathode);
            case Slot::Kind::Input: return nodal.input();
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
    std::vector<std::vector<double>> voltages, nexts;
    std::vector<TubeTable::Spec> specs;
    for (std::size_t t = 0; t < s.tubes; ++t) {
        const auto& tube = n.tubes[t];
        auto grid = rowAcross(tube.grid, tube.cathode, 1.0), plate = rowAcross(tube.plate, tube.cathode, 1.0);
        const std::size_t g = s.currentSlot(t), p = g + 1;
        const TubeTable::Loading own{{{grid[g], grid[p]}, {plate[g], plate[p]}}};
        const double gridA = restCurrent[2 * t], plateA = restCurrent[2 * t + 1];
        Port port;
        port.grid = s.restVoltages[t][0] - own[0][0] * gridA - own[0][1] * plateA;
        port.plate = s.restVoltages[t][1] - own[1][0] * gridA - own[1][1] * plateA;
        port.now = {gridA, plateA};
        s.restPorts.push_back(port);
        specs.push_back({tube.law, own, plateS[t], std::round(port.plate), spanOf(tube.law) * supplyV, float(plateA)});
        for (const std::size_t slot : {g, p}) grid[slot] = plate[slot] = 0.0;
        voltages.push_back(std::move(grid));
        voltages.push_back(std::move(plate));
    }
    s.tables = tubeTables(specs);
    s.rest();
    s.restSlots.assign(slots.size(), 0.0);
    for (std::size_t i = 0; i < s.histories; ++i) {
        const Keeper& k = keepers[slots[i].of];
        nexts.push_back(rowAcross(k.a, k.b, 2.0 * k.siemens));
        nexts.back()[i] += k.own;
        s.restSlots[i] = (k.isInductor() ? kWireS : k.siemens) * across(rest, k.a, k.b);
    }
    nexts.push_back(rowAcross(n.output, Netlist::kGround, 1.0));
    std::ranges::copy(restCurrent, s.restSlots.begin() + long(s.histories));
    s.voltages.emplace(voltages);
    s.nexts.emplace(nexts);
    s.volts.resize(s.voltages->size());
    s.couplings.assign(2 * s.tubes * s.volts.size(), 0.0);
    for (std::size_t i = 0; i < 2 * s.tubes; ++i)
        for (std::size_t row = i / 2 * 2 + 2; row < 2 * s.tubes; ++row)
            s.couplings[i * s.volts.size() + row] = voltages[row][s.histories + i];
    for (auto* numbers : {&s.slots, &s.next}) numbers->resize(std::max(slots.size(), s.nexts->size()));
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
    double* const currents = slots.data() + histories;
    currents[2 * tubes] = in;
    // What the tubes' currents will be, a parabola for plates, a line for grids: what a grid draws comes back within
    // the step more strongly, and the higher the order, the more of the highest frequencies it would feed back.
    for (std::size_t i = 0; i < 2 * tubes; i += 2) {
        currents[i] = 2.0 * before[i] - last[i];
        currents[i + 1] = 3.0 * (before[i + 1] - last[i + 1]) + third[i + 1];
    }
    third.swap(last);
    last.swap(before);
    voltages->times(slots.data(), volts.data());
    for (std::size_t t = 0; t < tubes; ++t) {
        const auto found = ports[t].currents(*tables[t], volts[2 * t], volts[2 * t + 1]);
        const double byGrid = found[0] - currents[2 * t], byPlate = found[1] - currents[2 * t + 1];
        const double *const fromGrid = &couplings[2 * t * volts.size()], *const fromPlate = fromGrid + volts.size();
        for (std::size_t row = (2 * t + 2) / Rows::kLanes * Rows::kLanes; row < 2 * tubes; row += Rows::kLanes)
            Rows::at(&volts[row]) += Rows::at(fromGrid + row) * byGrid + Rows::at(fromPlate + row) * byPlate;
        before[2 * t] = currents[2 * t] = found[0];
        before[2 * t + 1] = currents[2 * t + 1] = found[1];
    }
    nexts->times(slots.data(), next.data());
    slots.swap(next);
    return slots[histories] - restOut; // the output's row is behind those of the histories
}

double CircuitSolver::step(double volts) noexcept { return state_->step(volts); }
void CircuitSolver::takeOver(const CircuitSolver& other) noexcept
{
    State& s = *state_;
    const State& o = *other.state_;
    if (s.tubes != o.tubes || s.histories != o.histories) return;
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
