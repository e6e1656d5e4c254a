#include "core/rig/circuit/circuit_solver.h"

#include "core/units/processors.h"

#include <algorithm>
#include <cmath>
#include <optional>
#include <span>

namespace gristle::core {

namespace {

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

} // namespace

struct CircuitSolver::State {
    std::shared_ptr<const CircuitForm> form;
    std::size_t tubes, motions;               ///< the form's
    std::optional<Rows> voltages;             ///< two of each tube, without its own currents
    std::optional<Rows> nexts;                ///< what currents and input give to the motions, and the output
    std::vector<double> keeps, swings, heard; ///< the form's, as long as `next`
    /// What the tubes' voltages get from a current of each tube, where they are later in the signal; ohms, as long as
    /// `volts` for each slot of a current.
    std::vector<double> couplings;
    double restOut = 0.0;

    CircuitMoment rest, now;
    std::vector<double> next, volts;

    explicit State(std::shared_ptr<const CircuitForm> made)
        : form(std::move(made)), tubes(form->tubes), motions(form->motions), voltages(form->voltages),
          nexts(form->given), keeps(form->keeps), swings(form->swings), heard(form->heard)
    {
        for (auto* numbers : {&keeps, &swings, &heard}) numbers->resize(nexts->size());
        volts.resize(voltages->size());
        couplings.assign(form->currents() * volts.size(), 0.0);
        for (std::size_t i = 0; i < form->currents(); ++i)
            for (std::size_t row = i / 2 * 2 + 2; row < form->currents(); ++row)
                couplings[i * volts.size() + row] = form->voltages[row][motions + i];
        rest.held = form->restSlots;
        for (auto* numbers : {&rest.held, &next}) numbers->resize(std::max(form->slotCount(), nexts->size()));
        const auto restCurrents = std::span(form->restSlots).subspan(motions, form->currents());
        for (auto* currents : {&rest.before, &rest.last, &rest.third})
            currents->assign(restCurrents.begin(), restCurrents.end());
        for (std::size_t t = 0; t < tubes; ++t)
            rest.ports.push_back({.volts = TubePort::Two{form->restPorts[t][0], form->restPorts[t][1]},
                                  .now = TubePort::Two{restCurrents[2 * t], restCurrents[2 * t + 1]}});
        restTables();
        now = rest;
        restOut = step(0.0);
        now = rest;
    }
    void restTables() noexcept;
    double step(double in) noexcept;
};

CircuitSolver::CircuitSolver(const Netlist& netlist, double rateHz)
    : state_(std::make_unique<State>(std::make_shared<const CircuitForm>(CircuitForm::of(netlist, rateHz))))
{}
CircuitSolver::~CircuitSolver() = default;
CircuitSolver::CircuitSolver(CircuitSolver&&) noexcept = default;
CircuitSolver& CircuitSolver::operator=(CircuitSolver&&) noexcept = default;

/// The tables' shortcomings at rest, by the very arithmetic of step().
GRISTLE_FOR_BOTH_PROCESSORS
void CircuitSolver::State::restTables() noexcept
{
    for (std::size_t t = 0; t < tubes; ++t) rest.ports[t].rest(*form->tables[t]);
}

GRISTLE_FOR_BOTH_PROCESSORS
double CircuitSolver::State::step(double in) noexcept
{
    auto& [held, ports, before, last, third] = now;
    double* const currents = held.data() + motions;
    currents[2 * tubes] = in;
    // What the tubes' currents will be, a parabola for plates, a line for grids: what a grid draws comes back within
    // the step more strongly, and the higher the order, the more of the highest frequencies it would feed back.
    for (std::size_t i = 0; i < 2 * tubes; i += 2) {
        currents[i] = 2.0 * before[i] - last[i];
        currents[i + 1] = 3.0 * (before[i + 1] - last[i + 1]) + third[i + 1];
    }
    third.swap(last);
    last.swap(before);
    voltages->times(held.data(), volts.data());
    for (std::size_t t = 0; t < tubes; ++t) {
        double* const flow = currents + 2 * t;
        const auto by = ports[t].step(*form->tables[t], TubePort::Two{flow[0], flow[1]},
                                      TubePort::Two{volts[2 * t], volts[2 * t + 1]});
        const double *const fromGrid = &couplings[2 * t * volts.size()], *const fromPlate = fromGrid + volts.size();
        for (std::size_t row = (2 * t + 2) / Rows::kLanes * Rows::kLanes; row < 2 * tubes; row += Rows::kLanes)
            Rows::at(&volts[row]) =
                (Rows::at(&volts[row]) + Rows::at(fromGrid + row) * by[0]) + Rows::at(fromPlate + row) * by[1];
        before[2 * t] = flow[0] += by[0];
        before[2 * t + 1] = flow[1] += by[1];
    }
    nexts->times(currents, next.data());
    double out = next[motions] - restOut;
    Rows::Lanes heardOf{};
    for (std::size_t i = 0; i < motions; i += Rows::kLanes) {
        const Rows::Lanes at = Rows::at(&held[i]);
        Rows::at(&next[i]) +=
            Rows::at(&keeps[i]) * at + Rows::at(&swings[i]) * __builtin_shufflevector(at, at, 1, 0, 3, 2);
        heardOf += Rows::at(&heard[i]) * at;
    }
    held.swap(next);
    return out + ((heardOf[0] + heardOf[1]) + (heardOf[2] + heardOf[3]));
}

double CircuitSolver::step(double volts) noexcept { return state_->step(volts); }
void CircuitSolver::takeOver(const CircuitSolver& other) noexcept
{
    CircuitMoment& to = state_->now;
    const CircuitMoment& from = other.state_->now;
    const CircuitForm &form = *state_->form, &old = *other.state_->form;
    const std::size_t n = form.motions;
    if (form.tubes != old.tubes || n != old.motions) return;
    // Charges and currents are what they were; only the resistors between them are others.
    std::fill_n(to.held.begin(), n, 0.0);
    for (std::size_t i = 0; i < n; ++i) {
        double history = 0.0;
        for (std::size_t k = 0; k < n; ++k) history += old.toHistories[i * n + k] * from.held[k];
        for (std::size_t k = 0; k < n; ++k) to.held[k] += form.fromHistories[k * n + i] * history;
    }
    std::ranges::copy(from.before, to.before.begin());
    std::ranges::copy(from.last, to.last.begin());
    std::ranges::copy(from.third, to.third.begin());
    for (std::size_t t = 0; t < form.tubes; ++t) {
        const auto offset = to.ports[t].offset; // belongs to the table
        to.ports[t] = from.ports[t];
        to.ports[t].offset = offset;
    }
}

void CircuitSolver::reset() noexcept { goOnFrom(state_->rest); }
const std::shared_ptr<const CircuitForm>& CircuitSolver::form() const noexcept { return state_->form; }
const CircuitMoment& CircuitSolver::moment() const noexcept { return state_->now; }
void CircuitSolver::goOnFrom(const CircuitMoment& moment) noexcept
{
    CircuitMoment& now = state_->now;
    std::ranges::copy(moment.held, now.held.begin());
    std::ranges::copy(moment.ports, now.ports.begin());
    std::ranges::copy(moment.before, now.before.begin());
    std::ranges::copy(moment.last, now.last.begin());
    std::ranges::copy(moment.third, now.third.begin());
}
double CircuitSolver::restVolts() const noexcept { return state_->restOut; }
std::vector<TubeCurrents> CircuitSolver::restCurrents() const { return state_->form->restCurrents; }
std::vector<std::array<double, 2>> CircuitSolver::restVoltages() const { return state_->form->restVoltages; }

} // namespace gristle::core
