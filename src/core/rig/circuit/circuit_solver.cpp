#include "core/rig/circuit/circuit_solver.h"

#include <Eigen/Dense>
#include <Eigen/Eigenvalues>
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

/// First the histories; then the currents, two of each tube; the input last.
std::vector<Slot> slotsOf(const Netlist& n, const std::vector<Keeper>& keepers)
{
    std::vector<Slot> out;
    for (std::size_t k = 0; k < keepers.size(); ++k) out.push_back({Slot::Kind::History, k});
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
    typedef double Lanes __attribute__((vector_size(32), aligned(8), may_alias));
    static constexpr std::size_t kLanes = 4;

    /// @param rows  each as long as the slots, and its constant behind
    explicit Rows(const std::vector<std::vector<double>>& rows)
        : slots_(rows.empty() ? 0 : rows[0].size() - 1), size_((rows.size() + kHigh - 1) / kHigh * kHigh)
    {
        const auto valueAt = [&](std::size_t row, std::size_t i) {
            return row < rows.size() ? rows[row][i == 0 ? slots_ : i - 1] : 0.0;
        };
        for (std::size_t at = 0; at < size_; at += kHigh)
            for (std::size_t i = 0; i <= slots_; ++i)
                for (std::size_t r = at; r < at + kHigh; r += kLanes)
                    values_.push_back({{valueAt(r, i), valueAt(r + 1, i), valueAt(r + 2, i), valueAt(r + 3, i)}});
    }
    std::size_t size() const noexcept { return size_; } ///< of the result, padded
    static Lanes& at(double* from) noexcept { return *reinterpret_cast<Lanes*>(from); }
    static const Lanes& at(const double* from) noexcept { return *reinterpret_cast<const Lanes*>(from); }
    /// Inlined, so that it is made for the processor that its caller is made for.
    [[gnu::always_inline]] inline void times(const double* slots, double* out) const noexcept
    {
        constexpr std::size_t kWide = kHigh / kLanes;
        typedef double Whole __attribute__((vector_size(32), may_alias));
        const Whole* lanes = reinterpret_cast<const Whole*>(values_.data());
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
    struct alignas(32) Place { // within one line of the cache
        double of[kLanes];
    };
    std::size_t slots_, size_;
    std::vector<Place> values_; ///< of kHigh rows after the other: the constants, then those of each slot
};

/// A tube's port in time. Its current is the mean over the straight line that its voltages go along from the last
/// sample to this one, which keeps most of what would fold from far above out of the circuit; that is half a sample
/// late, so a parabola through the last three means gives the value of now. Source: Parker, Zavalishin and Le Bivic
/// 2016, Reducing the aliasing of nonlinear waveshaping using continuous-time convolution; the mean by Simpson's rule,
/// where the law bends by trapezoids in quarters, as a current of two voltages has no antiderivative in a table.
struct Port {
    using Two = TubeTable::Two; ///< of grid and plate

    Two volts{};                          ///< without the currents
    Two now{}, mean{}, before{}, third{}; ///< the current there; means of the last line and of the one before it
    Two offset{};                         ///< what the table lacks at rest

    /// So that a circuit at rest stays there: `now` is what the law says.
    [[gnu::always_inline]] inline void rest(const TubeTable& table) noexcept
    {
        offset = now - lookUp(table, volts, volts)[0];
        mean = before = third = now;
    }
    /// What the currents are, less `expected`. The arithmetic of what is known before `to` stands apart: the next tube
    /// waits for this one.
    [[gnu::always_inline]] inline Two step(const TubeTable& table, Two expected, Two to) noexcept
    {
        constexpr double kBentA = 1e-5; // off a straight line
        // A parabola through four currents whose neighbours have these means, at its end.
        constexpr double kLine = 1.875;
        const Two past = (0.625 * before - 0.125 * third - 1.375 * mean) - expected;
        // Simpson's rule for the line.
        constexpr double kEnd = 1.0 / 6.0, kHalf = 2.0 / 3.0;
        const Two known = past + kLine * (kEnd * now + (kEnd + kHalf) * offset);
        const Two middle = 0.5 * (volts + to);
        const auto [end, half] = lookUp(table, to, middle);
        Two out = (known + kLine * kEnd * end) + kLine * kHalf * half;
        const Two next = end + offset, straight = 0.5 * (now + next), bent = half + offset - straight;
        Two line = straight + kHalf * bent;
        if (std::abs(bent[0]) + std::abs(bent[1]) >= kBentA) [[unlikely]] { // by trapezoids in quarters
            const auto [early, late] = lookUp(table, 0.5 * (volts + middle), 0.5 * (middle + to));
            line = 0.25 * (early + late + half + straight + 3.0 * offset);
            out = past + kLine * line;
        }
        third = before, before = mean, mean = line, now = next, volts = to;
        return out;
    }

private:
    [[gnu::always_inline]] static inline std::array<Two, 2> lookUp(const TubeTable& table, Two a, Two b) noexcept
    {
        return table.at(Two{a[0], b[0]}, Two{a[1], b[1]});
    }
};

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
    /// Adds a matrix times the first of some numbers.
    static void addTo(const std::vector<double>& numbers, const Matrix& by, std::vector<double>& out) noexcept
    {
        for (long column = 0; column < by.cols(); ++column)
            for (long row = 0; row < by.rows(); ++row)
                out[std::size_t(row)] += by(row, column) * numbers[std::size_t(column)];
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

struct CircuitSolver::State {
    std::size_t tubes = 0;
    std::size_t histories = 0;    ///< as many motions: the first slots; then two currents of each tube, then the input
    std::optional<Rows> voltages; ///< two of each tube, without its own currents
    std::optional<Rows> nexts;    ///< what currents and input give to the motions, and the output
    std::optional<Motions> motions;
    std::vector<double> keeps, swings, heard; ///< of each motion, and what the output has of it; as long as `next`
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
        port.volts = Port::Two{s.restVoltages[t][0] - own[0][0] * gridA - own[0][1] * plateA,
                               s.restVoltages[t][1] - own[1][0] * gridA - own[1][1] * plateA};
        port.now = Port::Two{gridA, plateA};
        s.restPorts.push_back(port);
        specs.push_back(
            {tube.law, own, plateS[t], std::round(port.volts[1]), spanOf(tube.law) * supplyV, float(plateA)});
        for (const std::size_t slot : {g, p}) grid[slot] = plate[slot] = 0.0;
        voltages.push_back(std::move(grid));
        voltages.push_back(std::move(plate));
    }
    s.tables = tubeTables(specs);
    s.rest();
    const long histories = long(s.histories);
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
    s.motions.emplace(next, scales);
    nexts.push_back(rowAcross(n.output, Netlist::kGround, 1.0));
    s.heard = s.motions->ofMotions(nexts.back());
    for (auto& row : voltages) std::ranges::copy(s.motions->ofMotions(row), row.begin());
    // Of the others only what currents, input and constant do.
    std::vector<std::vector<double>> given;
    for (long i = 0; i <= histories; ++i) {
        auto& row = given.emplace_back(slots.size() + 1 - s.histories);
        for (std::size_t column = 0; column < row.size(); ++column)
            for (long k = 0; k < histories; ++k)
                row[column] +=
                    i == histories ? 0.0 : s.motions->fromHistories(i, k) * nexts[std::size_t(k)][s.histories + column];
        if (i == histories) row.assign(nexts.back().begin() + histories, nexts.back().end());
    }
    s.voltages.emplace(voltages);
    s.nexts.emplace(given);
    s.restSlots.assign(slots.size(), 0.0);
    Vector::Map(s.restSlots.data(), histories) = s.motions->fromHistories * restHistories;
    std::ranges::copy(restCurrent, s.restSlots.begin() + histories);
    s.keeps = s.motions->keeps;
    s.swings = s.motions->swings;
    for (auto* numbers : {&s.keeps, &s.swings, &s.heard}) numbers->resize(s.nexts->size());
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
        double* const flow = currents + 2 * t;
        const auto by =
            ports[t].step(*tables[t], Port::Two{flow[0], flow[1]}, Port::Two{volts[2 * t], volts[2 * t + 1]});
        const double *const fromGrid = &couplings[2 * t * volts.size()], *const fromPlate = fromGrid + volts.size();
        for (std::size_t row = (2 * t + 2) / Rows::kLanes * Rows::kLanes; row < 2 * tubes; row += Rows::kLanes)
            Rows::at(&volts[row]) =
                (Rows::at(&volts[row]) + Rows::at(fromGrid + row) * by[0]) + Rows::at(fromPlate + row) * by[1];
        before[2 * t] = flow[0] += by[0];
        before[2 * t + 1] = flow[1] += by[1];
    }
    nexts->times(currents, next.data());
    double out = next[histories] - restOut;
    Rows::Lanes heardOf{};
    for (std::size_t i = 0; i < histories; i += Rows::kLanes) {
        const Rows::Lanes now = Rows::at(&slots[i]);
        Rows::at(&next[i]) +=
            Rows::at(&keeps[i]) * now + Rows::at(&swings[i]) * __builtin_shufflevector(now, now, 1, 0, 3, 2);
        heardOf += Rows::at(&heard[i]) * now;
    }
    slots.swap(next);
    return out + ((heardOf[0] + heardOf[1]) + (heardOf[2] + heardOf[3]));
}

double CircuitSolver::step(double volts) noexcept { return state_->step(volts); }
void CircuitSolver::takeOver(const CircuitSolver& other) noexcept
{
    State& s = *state_;
    const State& o = *other.state_;
    if (s.tubes != o.tubes || s.histories != o.histories) return;
    // Charges and currents are what they were; only the resistors between them are others.
    for (std::size_t i = 0; i < s.histories; ++i) s.next[i] = s.slots[i] = 0.0;
    o.motions->addTo(o.slots, o.motions->toHistories, s.next);
    s.motions->addTo(s.next, s.motions->fromHistories, s.slots);
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
