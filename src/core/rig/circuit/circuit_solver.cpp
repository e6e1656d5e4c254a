#include "core/rig/circuit/circuit_solver.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cassert>

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

constexpr double kWireS = 1e4; // what an inductor is at rest

/// Node voltages at rest, by Newton's method, the supplies coming up in steps. Capacitors carry nothing.
Vector restOf(const Netlist& n)
{
    constexpr int kSteps = 40, kRounds = 100;
    constexpr double kFarthestV = 10.0;
    Nodal linear(n);
    for (const auto& l : n.inductors) linear.conductance(l.a, l.b, kWireS);
    Vector x = Vector::Zero(linear.matrix().rows());
    for (int s = 1; s <= kSteps; ++s) {
        for (int round = 0; round < kRounds; ++round) {
            Nodal step = linear;
            Vector right = double(s) / kSteps * linear.supplies(n);
            for (const auto& t : n.tubes) {
                const double vg = across(x, t.grid, t.cathode), vp = across(x, t.plate, t.cathode);
                const TubeCurrents i = tubeCurrents(t.law, vg, vp);
                const TubeSlopes g = tubeSlopes(t.law, vg, vp);
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
            if (farthest < 1e-9) break;
        }
    }
    return x;
}

} // namespace

struct CircuitSolver::State {
    // One column for each history (of the capacitors, then of the inductors), then the input and the constant; the rows
    // are the next histories, the two voltages of each tube without its currents, the output.
    std::size_t histories = 0, tubes = 0, rows = 0;
    std::vector<double> linear;   ///< by columns
    std::vector<double> currents; ///< the same rows for a current into each grid and plate
    std::vector<TubeTable> tables;
    std::vector<double> restHistory, restCurrent;
    double restOut = 0.0;
    std::vector<TubeCurrents> restCurrents;
    std::vector<std::array<double, 2>> restVoltages;

    std::vector<double> history, sum, now, before, last, third; ///< now: this sample's currents; then those before it

    void reset() noexcept
    {
        history = restHistory;
        before = last = third = now = restCurrent;
    }
};

CircuitSolver::CircuitSolver(const Netlist& n, double rateHz) : state_(std::make_unique<State>())
{
    State& s = *state_;
    const Vector rest = restOf(n);
    s.histories = n.capacitors.size() + n.inductors.size();
    s.tubes = n.tubes.size();
    s.rows = s.histories + 2 * s.tubes + 1;
    Nodal nodal(n);
    double supplyV = 0.0;
    for (const auto& b : n.supplies) supplyV = std::max(supplyV, b.volts);
    std::vector<double> plateS;
    for (const auto& t : n.tubes) {
        const double vg = across(rest, t.grid, t.cathode), vp = across(rest, t.plate, t.cathode);
        plateS.push_back(tubeSlopes(t.law, vg, vp).plateByPlate);
        nodal.conductance(t.plate, t.cathode, plateS.back());
        s.restVoltages.push_back({vg, vp});
        s.restCurrents.push_back(tubeCurrents(t.law, vg, vp));
        s.restCurrent.push_back(s.restCurrents.back().grid);
        s.restCurrent.push_back(s.restCurrents.back().plate - plateS.back() * vp);
    }
    // Trapezoidal companions: a conductance beside a current source, the history. A capacitor's next history is twice
    // its conductance times its voltage, less the one of now; an inductor's, plus.
    struct Keeper {
        Netlist::Node a, b;
        double siemens, own; ///< own: what the history of now adds to the next
    };
    std::vector<Keeper> keepers;
    for (const auto& c : n.capacitors) keepers.push_back({c.a, c.b, 2.0 * c.farad * rateHz, -1.0});
    for (const auto& l : n.inductors) keepers.push_back({l.a, l.b, 0.5 / (l.henry * rateHz), 1.0});
    for (const Keeper& k : keepers) nodal.conductance(k.a, k.b, k.siemens);
    const auto solved = nodal.matrix().partialPivLu();
    // What a right side does to the rows that are kept.
    const auto rowsOf = [&](const Vector& right, std::optional<std::size_t> own) {
        const Vector x = solved.solve(right);
        std::vector<double> out;
        for (std::size_t k = 0; k < keepers.size(); ++k)
            out.push_back(2.0 * keepers[k].siemens * across(x, keepers[k].a, keepers[k].b) +
                          (own == k ? keepers[k].own : 0.0));
        for (const auto& t : n.tubes) {
            out.push_back(across(x, t.grid, t.cathode));
            out.push_back(across(x, t.plate, t.cathode));
        }
        out.push_back(across(x, n.output, Netlist::kGround));
        return out;
    };
    const auto append = [](std::vector<double>& to, const std::vector<double>& column) {
        to.insert(to.end(), column.begin(), column.end());
    };
    for (std::size_t k = 0; k < keepers.size(); ++k) {
        const Keeper& part = keepers[k];
        const double volts = across(rest, part.a, part.b);
        const bool isInductor = part.own > 0.0;
        append(s.linear, rowsOf(isInductor ? nodal.current(part.a, part.b) : nodal.current(part.b, part.a), k));
        s.restHistory.push_back(isInductor ? kWireS * volts : part.siemens * volts);
    }
    append(s.linear, rowsOf(nodal.input(), std::nullopt));
    append(s.linear, rowsOf(nodal.supplies(n), std::nullopt));
    for (std::size_t k = 0; k < s.tubes; ++k) {
        const auto& t = n.tubes[k];
        const auto grid = rowsOf(nodal.current(t.grid, t.cathode), std::nullopt),
                   plate = rowsOf(nodal.current(t.plate, t.cathode), std::nullopt);
        append(s.currents, grid);
        append(s.currents, plate);
        const std::size_t row = s.histories + 2 * k;
        const TubeTable::Loading loading{{{grid[row], plate[row]}, {grid[row + 1], plate[row + 1]}}};
        const double plateV =
            s.restVoltages[k][1] - loading[1][0] * s.restCurrent[2 * k] - loading[1][1] * s.restCurrent[2 * k + 1];
        s.tables.emplace_back(t.law, loading, plateS[k], plateV, spanOf(t.law) * supplyV);
    }
    s.sum.resize(s.rows);
    s.reset();
    // The tables are not quite exact at rest; what the circuit settles at with them counts.
    for (int i = 0; i < int(rateHz); ++i) step(0.0);
    s.restOut += step(0.0);
    s.restHistory = s.history;
    s.restCurrent = s.before;
    s.reset();
}

CircuitSolver::~CircuitSolver() = default;
CircuitSolver::CircuitSolver(CircuitSolver&&) noexcept = default;
CircuitSolver& CircuitSolver::operator=(CircuitSolver&&) noexcept = default;

double CircuitSolver::step(double volts) noexcept
{
    State& s = *state_;
    const std::size_t rows = s.rows;
    double* const sum = s.sum.data();
    const auto add = [rows, sum](const double* column, double by) {
        for (std::size_t r = 0; r < rows; ++r) sum[r] += column[r] * by;
    };
    const double* column = s.linear.data();
    std::copy_n(column + (s.histories + 1) * rows, rows, sum); // the constant
    for (std::size_t c = 0; c < s.histories; ++c, column += rows) add(column, s.history[c]);
    add(column, volts);
    for (std::size_t i = 0; i < 2 * s.tubes; ++i) {
        // A parabola for plates, a line for grids: what a grid draws comes back within the step more strongly, and the
        // higher the order, the more of the highest frequencies it would feed back.
        s.now[i] = i % 2 == 1 ? 3.0 * (s.before[i] - s.last[i]) + s.third[i] : 2.0 * s.before[i] - s.last[i];
        add(s.currents.data() + i * rows, s.now[i]);
    }
    for (std::size_t k = 0; k < s.tubes; ++k) {
        const double *const grid = s.currents.data() + 2 * k * rows, *const plate = grid + rows;
        const std::size_t row = s.histories + 2 * k;
        const double guess[2] = {s.now[2 * k], s.now[2 * k + 1]};
        const auto found = s.tables[k].at(sum[row] - grid[row] * guess[0] - plate[row] * guess[1],
                                          sum[row + 1] - grid[row + 1] * guess[0] - plate[row + 1] * guess[1]);
        add(grid, found[0] - guess[0]);
        add(plate, found[1] - guess[1]);
        s.now[2 * k] = found[0], s.now[2 * k + 1] = found[1];
    }
    std::swap(s.third, s.last);
    std::swap(s.last, s.before);
    std::copy(s.now.begin(), s.now.end(), s.before.begin());
    std::copy_n(sum, s.histories, s.history.begin());
    return sum[rows - 1] - s.restOut;
}

void CircuitSolver::reset() noexcept { state_->reset(); }
double CircuitSolver::restVolts() const noexcept { return state_->restOut; }
std::vector<TubeCurrents> CircuitSolver::restCurrents() const { return state_->restCurrents; }
std::vector<std::array<double, 2>> CircuitSolver::restVoltages() const { return state_->restVoltages; }

} // namespace gristle::core
