#include "core/rig/circuit/circuit_solver.h"

#include "core/units/processors.h"

#include <algorithm>
#include <cassert>
#include <cstring>

namespace gristle::core {

namespace {

// The widest register that most processors have; unaligned.
typedef double Lanes __attribute__((vector_size(32), aligned(8), may_alias));
constexpr std::size_t kLanes = 4;
Lanes& lanesAt(double* from) noexcept { return *reinterpret_cast<Lanes*>(from); }
const Lanes& lanesAt(const double* from) noexcept { return *reinterpret_cast<const Lanes*>(from); }

/// Rows of a matrix times the slots, eight rows and four slots at a time in registers: fewer sums would wait for each
/// other.
class Rows {
public:
    static constexpr std::size_t kHigh = 8, kSlots = 4;

    /// @param rows  each as long as the slots, and its constant behind
    explicit Rows(const std::vector<std::vector<double>>& rows)
        : slots_(rows.empty() ? 0 : rows[0].size() - 1), size_(paddedTo(kHigh, rows.size()))
    {
        const auto valueAt = [&](std::size_t row, std::size_t i) {
            return row >= rows.size() || i > slots_ ? 0.0 : rows[row][i == 0 ? slots_ : i - 1];
        };
        for (std::size_t at = 0; at < size_; at += kHigh)
            for (std::size_t i = 0; i <= paddedTo(kSlots, slots_); ++i)
                for (std::size_t r = at; r < at + kHigh; r += kLanes)
                    values_.push_back({{valueAt(r, i), valueAt(r + 1, i), valueAt(r + 2, i), valueAt(r + 3, i)}});
    }
    static std::size_t paddedTo(std::size_t by, std::size_t n) noexcept { return (n + by - 1) / by * by; }
    std::size_t size() const noexcept { return size_; } ///< of the result, padded
    /// Inlined, so that it is made for the processor that its caller is made for.
    /// @param slots  behind them as many finite numbers as are left to a multiple of kSlots
    [[gnu::always_inline]] inline void times(const double* slots, double* out) const noexcept
    {
        constexpr std::size_t kWide = kHigh / kLanes;
        typedef double Whole __attribute__((vector_size(32), may_alias));
        const Whole* lanes = reinterpret_cast<const Whole*>(values_.data());
        const double* const last = slots + slots_;
        for (double* const end = out + size_; out < end; out += kHigh) {
            Lanes sum[kSlots][kWide]{};
            for (std::size_t r = 0; r < kWide; ++r) sum[0][r] = *lanes++;
            for (const double* slot = slots; slot < last; slot += kSlots, lanes += kSlots * kWide)
                for (std::size_t s = 0; s < kSlots; ++s)
                    for (std::size_t r = 0; r < kWide; ++r) sum[s][r] += lanes[kWide * s + r] * slot[s];
            for (std::size_t r = 0; r < kWide; ++r)
                lanesAt(out + kLanes * r) = (sum[0][r] + sum[1][r]) + (sum[2][r] + sum[3][r]);
        }
    }

private:
    struct alignas(32) Place { // within one line of the cache
        double of[kLanes];
    };
    std::size_t slots_, size_;
    std::vector<Place> values_; ///< of kHigh rows after the other: the constants, then those of each slot
};

/// What is linear of a section at work.
struct Section {
    std::shared_ptr<const CircuitForm> form;
    std::size_t motions;                            ///< the form's
    Rows voltages, nexts;                           ///< the form's voltages, and what it has `given`
    std::vector<double> keeps, swings, ahead, back; ///< the form's, as long as `next`
    std::vector<double> held, next, volts;          ///< held: the form's slots
    double restAhead = 0.0, restBack = 0.0;
    double nowAhead = 0.0, nowBack = 0.0, backBefore = 0.0; ///< see SectionMoment

    /// @param pairs  so many tubes' voltages and currents there is room for
    Section(CircuitForm made, std::size_t pairs)
        : form(std::make_shared<const CircuitForm>(std::move(made))), motions(form->motions), voltages(form->voltages),
          nexts(form->given), keeps(form->keeps), swings(form->swings), ahead(form->ahead), back(form->back),
          held(std::max(form->firstCurrent() + 2 * pairs, nexts.size()) + Rows::kSlots), next(held.size()),
          volts(std::max(voltages.size(), 2 * pairs))
    {
        for (auto* numbers : {&keeps, &swings, &ahead, &back}) numbers->resize(nexts.size());
    }
    /// After the last tube: the motions of the next sample, and what both ends have of this one.
    [[gnu::always_inline]] inline void moveOn() noexcept
    {
        const double* const at = held.data();
        double* const to = next.data();
        nexts.times(at + motions, to);
        const double aheadGiven = to[motions] - restAhead, backGiven = to[motions + 1] - restBack;
        const double *const keep = keeps.data(), *const swing = swings.data(), *const toAhead = ahead.data(),
                            *const toBack = back.data();
        Lanes aheadOf{}, backOf{};
        for (std::size_t i = 0; i < motions; i += kLanes) {
            const Lanes here = lanesAt(at + i);
            lanesAt(to + i) +=
                lanesAt(keep + i) * here + lanesAt(swing + i) * __builtin_shufflevector(here, here, 1, 0, 3, 2);
            aheadOf += lanesAt(toAhead + i) * here;
            backOf += lanesAt(toBack + i) * here;
        }
        held.swap(next);
        nowAhead = aheadGiven + ((aheadOf[0] + aheadOf[1]) + (aheadOf[2] + aheadOf[3]));
        backBefore = nowBack;
        nowBack = backGiven + ((backOf[0] + backOf[1]) + (backOf[2] + backOf[3]));
    }
    /// Charges are what they were; only the resistors between them are others.
    void takeOver(const Section& other) noexcept
    {
        std::fill_n(held.begin(), motions, 0.0);
        for (std::size_t i = 0; i < motions; ++i) {
            double history = 0.0;
            for (std::size_t k = 0; k < motions; ++k)
                history += other.form->toHistories[i * motions + k] * other.held[k];
            for (std::size_t k = 0; k < motions; ++k) held[k] += form->fromHistories[k * motions + i] * history;
        }
        nowAhead = other.nowAhead, nowBack = other.nowBack, backBefore = other.backBefore;
    }
};

} // namespace

/// The tubes of two sections go side by side: the first of both, then the second. Where a section has none, or is none,
/// its half of a pair is a tube that nobody hears.
struct CircuitSolver::State {
    using Four = TubePair::Four; ///< grid and plate of a pair's two tubes
    /// The same of one of them.
    typedef double Half __attribute__((vector_size(16), aligned(8), may_alias));
    static Half& halfAt(double* from, std::size_t tube) noexcept { return reinterpret_cast<Half*>(from)[tube]; }
    struct Pair {
        TubePair tubes;
        Four expected{}, before{}, last{}, third{}; ///< their currents
        Four volts{};                               ///< without these
    };
    struct Coupling { ///< what a pair's voltages get from the currents of an earlier one, ohms
        Four ofGrids{}, ofPlates{};
    };
    static constexpr std::size_t kMostSections = 2;

    std::vector<std::shared_ptr<const CircuitForm>> forms;
    std::vector<Section> sections;
    std::vector<Pair> pairs;
    std::vector<Coupling> couplings;   ///< for each pair to each
    std::vector<double> still, nobody; ///< a second section's voltages, and its currents, where there is none
    CircuitMoment rest;

    explicit State(std::vector<CircuitForm> made)
    {
        assert(!made.empty() && made.size() <= kMostSections);
        std::size_t most = 0;
        for (const CircuitForm& form : made) most = std::max(most, form.tubes);
        for (CircuitForm& form : made) {
            sections.emplace_back(std::move(form), most);
            forms.push_back(sections.back().form);
        }
        for (std::size_t t = 0; t < most; ++t) {
            const bool isFirst = t < forms.front()->tubes, isSecond = t < forms.back()->tubes;
            pairs.push_back(
                {TubePair(*forms[isFirst ? 0 : 1]->tables[t], *forms[isSecond ? forms.size() - 1 : 0]->tables[t])});
        }
        couplings.resize(most * most), still.resize(2 * most), nobody.resize(2 * most);
        for (std::size_t s = 0; s < forms.size(); ++s)
            for (std::size_t row = 2; row < forms[s]->currents(); ++row)
                for (std::size_t t = 0; t < row / 2; ++t) {
                    const double* const ohms = &forms[s]->voltages[row][forms[s]->firstCurrent() + 2 * t];
                    Coupling& coupling = couplings[t * most + row / 2];
                    coupling.ofGrids[2 * s + row % 2] = ohms[0];
                    coupling.ofPlates[2 * s + row % 2] = ohms[1];
                }
        goOnFrom(atRest());
        restTables();
        rest = moment();
        step(0.0);
        for (Section& s : sections) s.restAhead = s.nowAhead, s.restBack = s.nowBack;
        goOnFrom(rest);
    }
    void restTables() noexcept;
    double step(double in) noexcept;
    CircuitMoment atRest() const;
    CircuitMoment moment() const;
    void goOnFrom(const CircuitMoment& from) noexcept;
    void takeOver(const State& other) noexcept;
};

CircuitMoment CircuitSolver::State::atRest() const
{
    CircuitMoment out;
    for (const auto& form : forms) {
        SectionMoment& section = out.emplace_back();
        section.held = form->restSlots;
        const std::vector<double> currents(form->restSlots.begin() + long(form->firstCurrent()), form->restSlots.end());
        section.before = section.last = section.third = currents;
        for (std::size_t t = 0; t < form->tubes; ++t)
            section.ports.push_back({.volts = form->restPorts[t], .now = {currents[2 * t], currents[2 * t + 1]}});
    }
    return out;
}

CircuitMoment CircuitSolver::State::moment() const
{
    CircuitMoment out;
    for (std::size_t s = 0; s < sections.size(); ++s) {
        const Section& from = sections[s];
        SectionMoment& to = out.emplace_back();
        to.held.assign(from.held.begin(), from.held.begin() + long(from.form->slotCount()));
        to.ahead = from.nowAhead, to.back = from.nowBack, to.backBefore = from.backBefore;
        for (std::size_t t = 0; t < from.form->tubes; ++t) {
            const Pair& pair = pairs[t];
            to.ports.push_back(pair.tubes.get(s));
            for (std::size_t i = 2 * s; i < 2 * s + 2; ++i) {
                to.before.push_back(pair.before[i]);
                to.last.push_back(pair.last[i]);
                to.third.push_back(pair.third[i]);
            }
        }
    }
    return out;
}

void CircuitSolver::State::goOnFrom(const CircuitMoment& moment) noexcept
{
    for (std::size_t s = 0; s < kMostSections; ++s)
        for (std::size_t t = 0; t < pairs.size(); ++t) {
            Pair& pair = pairs[t];
            const bool isHeard = s < forms.size() && t < forms[s]->tubes;
            pair.tubes.set(s, isHeard ? moment[s].ports[t] : TubePort());
            for (std::size_t i = 0; i < 2; ++i) {
                const auto valueOf = [&](const std::vector<double>& of) { return of[2 * t + i]; };
                pair.before[2 * s + i] = isHeard ? valueOf(moment[s].before) : 0.0;
                pair.last[2 * s + i] = isHeard ? valueOf(moment[s].last) : 0.0;
                pair.third[2 * s + i] = isHeard ? valueOf(moment[s].third) : 0.0;
            }
        }
    for (std::size_t s = 0; s < sections.size(); ++s) {
        const SectionMoment& from = moment[s];
        Section& to = sections[s];
        for (auto* slots : {&to.held, &to.next}) std::ranges::fill(*slots, 0.0);
        std::ranges::copy(from.held, to.held.begin());
        to.nowAhead = from.ahead, to.nowBack = from.back, to.backBefore = from.backBefore;
    }
}

void CircuitSolver::State::takeOver(const State& other) noexcept
{
    const auto isAlike = [](const auto& a, const auto& b) { return a->tubes == b->tubes && a->motions == b->motions; };
    if (!std::ranges::equal(forms, other.forms, isAlike)) return;
    for (std::size_t s = 0; s < sections.size(); ++s) sections[s].takeOver(other.sections[s]);
    for (std::size_t t = 0; t < pairs.size(); ++t) {
        Pair& pair = pairs[t];
        const Pair& from = other.pairs[t];
        pair.before = from.before, pair.last = from.last, pair.third = from.third;
        for (std::size_t s = 0; s < kMostSections; ++s) {
            TubePort port = from.tubes.get(s);
            port.offset = pair.tubes.get(s).offset; // belongs to the table
            pair.tubes.set(s, port);
        }
    }
}

CircuitSolver::CircuitSolver(const Netlist& netlist, double rateHz) : CircuitSolver(std::span(&netlist, 1), rateHz) {}
CircuitSolver::CircuitSolver(std::span<const Netlist> sections, double rateHz)
    : state_(std::make_unique<State>(CircuitForm::ofSections(sections, rateHz)))
{}
CircuitSolver::~CircuitSolver() = default;
CircuitSolver::CircuitSolver(CircuitSolver&&) noexcept = default;
CircuitSolver& CircuitSolver::operator=(CircuitSolver&&) noexcept = default;

/// The tables' shortcomings at rest, by the very arithmetic of step().
GRISTLE_FOR_BOTH_PROCESSORS
void CircuitSolver::State::restTables() noexcept
{
    for (Pair& pair : pairs) pair.tubes.rest();
}

GRISTLE_FOR_BOTH_PROCESSORS
double CircuitSolver::State::step(double in) noexcept
{
    Section *const first = &sections.front(), *const second = sections.size() > 1 ? &sections.back() : nullptr;
    const auto currentsOf = [](Section* s) { return s->held.data() + s->form->firstCurrent(); };
    double *const one = currentsOf(first), *const other = second ? currentsOf(second) : nobody.data();
    const auto put = [&](std::size_t t, const Four& currents) __attribute__((always_inline))
    {
        halfAt(one, t) = __builtin_shufflevector(currents, currents, 0, 1);
        halfAt(other, t) = __builtin_shufflevector(currents, currents, 2, 3);
    };
    const std::size_t count = pairs.size();
    // What the currents will be, a parabola for plates, a line for grids: what a grid draws comes back within the step
    // more strongly, and the higher the order, the more of the highest frequencies it would feed back.
    constexpr Four kBefore{2.0, 3.0, 2.0, 3.0}, kLast{1.0, 3.0, 1.0, 3.0}, kThird{0.0, 1.0, 0.0, 1.0};
    for (std::size_t t = 0; t < count; ++t) {
        Pair& pair = pairs[t];
        pair.expected = (kBefore * pair.before - kLast * pair.last) + kThird * pair.third;
        pair.third = pair.last;
        pair.last = pair.before;
        put(t, pair.expected);
    }
    first->held[first->motions] = in;
    if (second) { // the first is a sample ahead: what it sees of the second is to be for two samples on
        first->held[first->motions + 1] = 3.0 * second->nowBack - 2.0 * second->backBefore;
        second->held[second->motions] = first->nowAhead;
    }
    for (Section& s : sections) s.voltages.times(s.held.data(), s.volts.data());
    double *const volts = first->volts.data(), *const otherVolts = second ? second->volts.data() : still.data();
    for (std::size_t t = 0; t < count; ++t)
        pairs[t].volts = __builtin_shufflevector(halfAt(volts, t), halfAt(otherVolts, t), 0, 1, 2, 3);
    const Coupling* coupling = couplings.data();
    for (std::size_t t = 0; t < count; ++t, coupling += count) {
        Pair& pair = pairs[t];
        Four by;
        pair.tubes.step(pair.expected, pair.volts, by);
        const Four ofGrids = __builtin_shufflevector(by, by, 0, 0, 2, 2),
                   ofPlates = __builtin_shufflevector(by, by, 1, 1, 3, 3);
        for (std::size_t later = t + 1; later < count; ++later) {
            Four& to = pairs[later].volts;
            to = (to + coupling[later].ofGrids * ofGrids) + coupling[later].ofPlates * ofPlates;
        }
        pair.before = pair.expected + by;
        put(t, pair.before);
    }
    for (Section& s : sections) s.moveOn();
    return sections.back().nowAhead;
}

double CircuitSolver::step(double volts) noexcept { return state_->step(volts); }
void CircuitSolver::takeOver(const CircuitSolver& before) noexcept { state_->takeOver(*before.state_); }
void CircuitSolver::reset() noexcept { state_->goOnFrom(state_->rest); }
const std::vector<std::shared_ptr<const CircuitForm>>& CircuitSolver::forms() const noexcept { return state_->forms; }
CircuitMoment CircuitSolver::moment() const { return state_->moment(); }
void CircuitSolver::goOnFrom(const CircuitMoment& moment) noexcept { state_->goOnFrom(moment); }
double CircuitSolver::restVolts() const noexcept { return state_->sections.back().restAhead; }
std::vector<TubeCurrents> CircuitSolver::restCurrents() const
{
    std::vector<TubeCurrents> out;
    for (const auto& form : forms()) out.insert(out.end(), form->restCurrents.begin(), form->restCurrents.end());
    return out;
}
std::vector<std::array<double, 2>> CircuitSolver::restVoltages() const
{
    std::vector<std::array<double, 2>> out;
    for (const auto& form : forms()) out.insert(out.end(), form->restVoltages.begin(), form->restVoltages.end());
    return out;
}

} // namespace gristle::core
