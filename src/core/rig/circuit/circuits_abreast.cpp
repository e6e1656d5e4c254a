// Wide registers are handed to inlined functions alone.
#pragma GCC diagnostic ignored "-Wpsabi"

#include "core/rig/circuit/circuits_abreast.h"

#include "core/rig/circuit/tube_lanes.h"
#include "core/units/no_denormals.h"
#include "core/units/processors.h"

namespace gristle::core {

namespace {

constexpr std::size_t kLanes = CircuitsAbreast::kLanes;

/// @param step  from one to the next
std::vector<std::size_t> slotsFrom(std::size_t first, std::size_t count, std::size_t step = 1)
{
    std::vector<std::size_t> out(count);
    for (std::size_t i = 0; i < count; ++i) out[i] = first + step * i;
    return out;
}

} // namespace

/// For any width of registers.
struct CircuitsAbreast::State {
    virtual ~State() = default;
    virtual void set(std::size_t lane, const CircuitMoment& moment) noexcept = 0;
    virtual void get(std::size_t lane, CircuitMoment& moment) noexcept = 0;
    virtual void rest() noexcept = 0; ///< of the tables, by the very arithmetic of process()
    virtual void process(const Volts& x, std::size_t samples, float inGain, float outGain) noexcept = 0;
};

namespace {

template<std::size_t wide> class Abreast : public CircuitsAbreast::State {
public:
    explicit Abreast(const CircuitSolver& like)
        : form_(like.form()), grids_(form_->voltages, slotsFrom(0, form_->tubes, 2), slotsFrom(0, form_->motions)),
          plates_(form_->voltages, slotsFrom(1, form_->tubes, 2), slotsFrom(0, form_->motions)),
          nexts_(form_->given, slotsFrom(0, form_->given.size()), slotsFrom(0, form_->currents() + 1)),
          motions_(form_->motions), moved_(form_->motions), next_(nexts_.size()), gridV_(grids_.size()),
          plateV_(plates_.size()), out_(1), currents_(form_->currents() + 1), before_(form_->currents()),
          last_(form_->currents()), third_(form_->currents()), ports_(kGroups * form_->tubes)
    {
        const std::size_t flows = form_->currents();
        for (std::size_t t = 0; t < form_->tubes; ++t) {
            tables_.emplace_back(*form_->tables[t], form_->restPorts[t][0], form_->restPorts[t][1]);
            for (std::size_t i = 0; i < flows; ++i)
                for (const std::size_t row : {2 * t, 2 * t + 1})
                    ofCurrents_.push_back(float(form_->voltages[row][form_->motions + (2 * t + i) % flows]));
            for (const std::size_t row : {2 * t, 2 * t + 1}) ofInput_.push_back(float(form_->voltages[row].end()[-2]));
        }
        for (const double heard : form_->heard) heard_.push_back(float(heard));
        while (swinging_ < form_->motions && form_->swings[swinging_] != 0.0) ++swinging_;
    }
    void set(std::size_t lane, const CircuitMoment& moment) noexcept override
    {
        for (std::size_t i = 0; i < form_->motions; ++i) {
            motions_.set(i, lane, moment.held[i] - form_->restSlots[i]);
            moved_.set(i, lane, moment.held[i] - form_->restSlots[i]);
        }
        for (std::size_t i = 0; i < form_->currents(); ++i) {
            before_.set(i, lane, moment.before[i] - restCurrent(i));
            last_.set(i, lane, moment.last[i] - restCurrent(i));
            third_.set(i, lane, moment.third[i] - restCurrent(i));
        }
        for (std::size_t t = 0; t < form_->tubes; ++t) {
            auto& to = ports_[kGroups * t + lane / wide];
            const TubePort::Two volts{form_->restPorts[t][0], form_->restPorts[t][1]},
                currents{restCurrent(2 * t), restCurrent(2 * t + 1)};
            const auto two = [&](typename Use::Two& into, TubePort::Two of, TubePort::Two rest) {
                into.grid[lane % wide] = float(of[0] - rest[0]);
                into.plate[lane % wide] = float(of[1] - rest[1]);
            };
            const TubePort& from = moment.ports[t];
            two(to.volts, from.volts, volts), two(to.now, from.now, currents);
            two(to.before, from.before, currents), two(to.line, from.line, -0.5 * currents);
        }
    }
    void get(std::size_t lane, CircuitMoment& moment) noexcept override
    {
        for (std::size_t i = 0; i < form_->motions; ++i) moment.held[i] = form_->restSlots[i] + motions_.get(i, lane);
        for (std::size_t i = 0; i < form_->currents(); ++i) {
            moment.before[i] = restCurrent(i) + before_.get(i, lane);
            moment.last[i] = restCurrent(i) + last_.get(i, lane);
            moment.third[i] = restCurrent(i) + third_.get(i, lane);
        }
        for (std::size_t t = 0; t < form_->tubes; ++t) {
            const auto& from = ports_[kGroups * t + lane / wide];
            const TubePort::Two volts{form_->restPorts[t][0], form_->restPorts[t][1]},
                currents{restCurrent(2 * t), restCurrent(2 * t + 1)};
            const auto two = [&](const typename Use::Two& of, TubePort::Two rest) {
                return rest + TubePort::Two{double(of.grid[lane % wide]), double(of.plate[lane % wide])};
            };
            TubePort& to = moment.ports[t];
            to.volts = two(from.volts, volts), to.now = two(from.now, currents);
            to.before = two(from.before, currents), to.line = two(from.line, -0.5 * currents);
        }
    }

protected:
    GRISTLE_INLINED void restTables() noexcept
    {
        for (auto& table : tables_) table.rest();
    }
    GRISTLE_INLINED void run(const CircuitsAbreast::Volts& x, std::size_t samples, float inGain, float outGain) noexcept
    {
        for (std::size_t at = 0; at < samples; ++at) {
            for (std::size_t g = 0; g < kGroups; ++g) {
                Lane in;
                for (std::size_t i = 0; i < wide; ++i) in[i] = x[wide * g + i][at];
                currents_[form_->currents()][g] = inGain * in;
            }
            step();
            for (std::size_t g = 0; g < kGroups; ++g) {
                const Lane out = outGain * out_[0][g];
                for (std::size_t i = 0; i < wide; ++i) x[wide * g + i][at] = out[i];
            }
        }
    }

private:
    using Use = Registers<wide, kLanes>;
    using Lane = typename Use::Lane;
    using Doubles = typename Use::Doubles;
    static constexpr std::size_t kGroups = Use::kGroups, kHalf = Use::kHalf;

    double restCurrent(std::size_t i) const noexcept { return form_->restSlots[form_->motions + i]; }

    /// From the input behind the currents to the output. See CircuitSolver.
    GRISTLE_INLINED void step() noexcept
    {
        const std::size_t tubes = form_->tubes, kept = form_->motions, flows = form_->currents();
        for (std::size_t i = 0; i < flows; i += 2)
            for (std::size_t g = 0; g < kGroups; ++g) {
                currents_[i][g] = 2.0f * before_[i][g] - last_[i][g];
                currents_[i + 1][g] = 3.0f * (before_[i + 1][g] - last_[i + 1][g]) + third_[i + 1][g];
            }
        third_.swap(last_);
        last_.swap(before_);
        grids_.times(motions_.data(), gridV_.data());
        plates_.times(moved_.data(), plateV_.data());
        const float* by = ofCurrents_.data();
        for (std::size_t t = 0; t < tubes; ++t, by += 2 * flows)
            for (std::size_t g = 0; g < kGroups; ++g) {
                // From its own on, so that those of the tube before come last: the others do not wait for them.
                const Lane& in = currents_[flows][g];
                typename Use::Two to{Use::single(gridV_[t][2 * g], gridV_[t][2 * g + 1]), plateV_[t][g]},
                    odd{ofInput_[2 * t] * in, ofInput_[2 * t + 1] * in};
                for (std::size_t i = 0; i < flows; i += 2) {
                    const std::size_t from = 2 * t + i < flows ? 2 * t + i : 2 * t + i - flows;
                    const Lane grid = currents_[from][g], plate = currents_[from + 1][g];
                    to.grid += by[2 * i] * grid, to.plate += by[2 * i + 1] * grid;
                    odd.grid += by[2 * i + 2] * plate, odd.plate += by[2 * i + 3] * plate;
                }
                const auto flow = ports_[kGroups * t + g].step(tables_[t], {to.grid + odd.grid, to.plate + odd.plate});
                before_[2 * t][g] = currents_[2 * t][g] = flow.grid;
                before_[2 * t + 1][g] = currents_[2 * t + 1][g] = flow.plate;
            }
        nexts_.times(currents_.data(), next_.data());
        for (std::size_t g = 0; g < kGroups; ++g) {
            Lane out = next_[kept][g];
            for (std::size_t i = 0; i < kept; ++i) out += heard_[i] * moved_[i][g];
            out_[0][g] = out;
            // The motions themselves in double precision: some hold for hundreds of thousands of steps.
            const auto faded = [&](std::size_t i, std::size_t half) GRISTLE_INLINED_HERE {
                const Lane& given = next_[i][g];
                return (half == 0 ? Use::template doubled<0>(given) : Use::template doubled<kHalf>(given)) +
                       form_->keeps[i] * motions_[i][2 * g + half];
            };
            const auto moveOn = [&](std::size_t i, const Doubles& first, const Doubles& second) GRISTLE_INLINED_HERE {
                motions_[i][2 * g] = first;
                motions_[i][2 * g + 1] = second;
                moved_[i][g] = Use::single(first, second);
            };
            for (std::size_t i = 0; i < swinging_; i += 2) {
                const double one = form_->swings[i], other = form_->swings[i + 1];
                const Doubles *const a = &motions_[i][2 * g], *const b = &motions_[i + 1][2 * g];
                const Doubles first = faded(i, 0) + one * b[0], second = faded(i, 1) + one * b[1],
                              otherFirst = faded(i + 1, 0) + other * a[0], otherSecond = faded(i + 1, 1) + other * a[1];
                moveOn(i, first, second);
                moveOn(i + 1, otherFirst, otherSecond);
            }
            for (std::size_t i = swinging_; i < kept; ++i) moveOn(i, faded(i, 0), faded(i, 1));
        }
    }

    std::shared_ptr<const CircuitForm> form_;
    std::vector<typename Use::Table> tables_;
    /// What the motions do to each tube's grid and plate. Grids in double precision: what is small there is the
    /// difference of much, and is amplified.
    typename Use::template Rows<Doubles> grids_;
    typename Use::template Rows<Lane> plates_;
    typename Use::template Rows<Lane> nexts_; ///< what currents and input give to the motions, and the output
    std::vector<float> ofCurrents_, ofInput_; ///< what they do to each tube's voltages; the currents from its own on
    std::vector<float> heard_;
    std::size_t swinging_ = 0; ///< motions, the first ones

    typename Use::template Store<Doubles> motions_;
    typename Use::template Store<Lane> moved_, next_; ///< the motions again
    typename Use::template Store<Doubles> gridV_;
    typename Use::template Store<Lane> plateV_, out_;
    typename Use::template Store<Lane> currents_;              ///< the input behind them
    typename Use::template Store<Lane> before_, last_, third_; ///< the currents of the samples before
    std::vector<typename Use::Port> ports_;                    ///< of each tube, of each group
};

class AbreastByEight final : public Abreast<8> {
public:
    using Abreast::Abreast;
    void rest() noexcept override { restByEight(); }
    void process(const CircuitsAbreast::Volts& x, std::size_t samples, float inGain, float outGain) noexcept override
    {
        byEight(x, samples, inGain, outGain);
    }

private:
    GRISTLE_FOR_BOTH_PROCESSORS
    void restByEight() noexcept { restTables(); }
    GRISTLE_FOR_BOTH_PROCESSORS
    void byEight(const CircuitsAbreast::Volts& x, std::size_t samples, float inGain, float outGain) noexcept
    {
        run(x, samples, inGain, outGain);
    }
};

#ifdef GRISTLE_FOR_WIDE_PROCESSORS
class AbreastBySixteen final : public Abreast<16> {
public:
    using Abreast::Abreast;
    GRISTLE_FOR_WIDE_PROCESSORS
    void rest() noexcept override { restTables(); }
    GRISTLE_FOR_WIDE_PROCESSORS
    void process(const CircuitsAbreast::Volts& x, std::size_t samples, float inGain, float outGain) noexcept override
    {
        run(x, samples, inGain, outGain);
    }
};
#endif

} // namespace

CircuitsAbreast::CircuitsAbreast(const CircuitSolver& like)
{
#ifdef GRISTLE_FOR_WIDE_PROCESSORS
    if (isWideProcessor()) state_ = std::make_unique<AbreastBySixteen>(like);
#endif
    if (!state_) state_ = std::make_unique<AbreastByEight>(like);
    state_->rest();
    for (std::size_t lane = 0; lane < kLanes; ++lane) set(lane, like.moment());
}
CircuitsAbreast::~CircuitsAbreast() = default;
CircuitsAbreast::CircuitsAbreast(CircuitsAbreast&&) noexcept = default;
CircuitsAbreast& CircuitsAbreast::operator=(CircuitsAbreast&&) noexcept = default;

void CircuitsAbreast::set(std::size_t lane, const CircuitMoment& moment) noexcept { state_->set(lane, moment); }
void CircuitsAbreast::get(std::size_t lane, CircuitMoment& moment) const noexcept { state_->get(lane, moment); }
void CircuitsAbreast::process(const Volts& x, std::size_t samples, double inGain, float outGain) noexcept
{
    const NoDenormals scope;
    state_->process(x, samples, float(inGain), outGain);
}

} // namespace gristle::core
