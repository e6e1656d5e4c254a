// Wide registers are handed to inlined functions alone.
#pragma GCC diagnostic ignored "-Wpsabi"

#include "core/rig/circuit/circuit_batch.h"

#include "core/rig/circuit/tube_lanes.h"
#include "core/units/no_denormals.h"
#include "core/units/processors.h"

#include <cstring>

namespace gristle::core {

namespace {

constexpr std::size_t kLanes = CircuitBatch::kLanes;

} // namespace

/// For any width of registers.
struct CircuitBatch::State {
    virtual ~State() = default;
    virtual std::unique_ptr<State> clone() const = 0;
    virtual void set(std::size_t lane, const CircuitMoment& moment) noexcept = 0;
    virtual void get(std::size_t lane, CircuitMoment& moment) const noexcept = 0;
    virtual void rest() noexcept = 0; ///< of the tables, by the very arithmetic of process()
    virtual void process(const Volts& x, std::size_t samples, float inGain, float outGain) noexcept = 0;
};

namespace {

/// A section of each circuit, see CircuitSolver.
template<std::size_t wide> class SectionBatch {
public:
    using Use = Registers<wide, kLanes>;
    using Lane = typename Use::Lane;
    using Flow = std::array<Lane, Use::kGroups>; ///< a number of each lane

    /// @param isBehind  whether there is a section before
    SectionBatch(std::shared_ptr<const CircuitForm> form, bool isBehind)
        : form_(std::move(form)), isBehind_(isBehind), tables_(tablesOf(*form_)), spots_(spotsOf(*form_, tables_)),
          finePorts_(isBehind ? 0 : std::min<std::size_t>(kFine, form_->tubes)), fine_(fineRows(), form_->motions),
          known_(knownRows(), form_->slotCount()), nexts_(form_->given, form_->slotCount() - form_->motions),
          motions_(form_->motions), slots_(form_->slotCount()), next_(nexts_.size()), fineKnown_(fine_.size()),
          spotKnown_(known_.size()), ends_(3), unexpected_(form_->currents()), before_(form_->currents()),
          last_(form_->currents()), third_(form_->currents()), ports_(kGroups * form_->tubes)
    {
        for (std::size_t t = 0; t < form_->tubes; ++t)
            for (std::size_t i = 0; i < 2 * t; ++i)
                for (const std::size_t row : {2 * t, 2 * t + 1})
                    couplings_.push_back(float(spots_[row][form_->firstCurrent() + i]));
        for (const double part : form_->ahead) aheads_.push_back(float(part));
        for (const double part : form_->back) backs_.push_back(float(part));
        while (swinging_ < form_->motions && form_->swings[swinging_] != 0.0) ++swinging_;
    }
    void set(std::size_t lane, const SectionMoment& moment) noexcept
    {
        for (std::size_t i = 0; i < form_->motions; ++i) {
            motions_.set(i, lane, moment.held[i] - form_->restSlots[i]);
            slots_.set(i, lane, moment.held[i] - form_->restSlots[i]);
        }
        for (std::size_t i = 0; i < form_->currents(); ++i) {
            before_.set(i, lane, moment.before[i] - restCurrent(i));
            last_.set(i, lane, moment.last[i] - restCurrent(i));
            third_.set(i, lane, moment.third[i] - restCurrent(i));
        }
        for (std::size_t t = 0; t < form_->tubes; ++t) {
            auto& to = ports_[kGroups * t + lane / wide];
            const std::size_t at = lane % wide;
            const TubePort& from = moment.ports[t];
            const double grid = from.volts[0] - form_->restPorts[t][0], plate = from.volts[1] - form_->restPorts[t][1];
            to.spot.off[at] = float(tables_[t].offOf(grid, plate));
            to.spot.row[at] = float(tables_[t].rowOf(plate));
            to.now.grid[at] = float(from.now[0] - restCurrent(2 * t));
            to.now.plate[at] = float(from.now[1] - restCurrent(2 * t + 1));
            to.less.grid[at] = float(-from.past[0] - 0.5 * restCurrent(2 * t));
            to.less.plate[at] = float(-from.past[1] - 0.5 * restCurrent(2 * t + 1));
        }
        for (std::size_t i = 0; i < 3; ++i)
            ends_.set(i, lane, std::array{moment.ahead, moment.back, moment.backBefore}[i]);
    }
    void get(std::size_t lane, SectionMoment& moment) const noexcept
    {
        for (std::size_t i = 0; i < form_->motions; ++i) moment.held[i] = form_->restSlots[i] + motions_.get(i, lane);
        for (std::size_t i = 0; i < form_->currents(); ++i) {
            moment.before[i] = restCurrent(i) + before_.get(i, lane);
            moment.last[i] = restCurrent(i) + last_.get(i, lane);
            moment.third[i] = restCurrent(i) + third_.get(i, lane);
        }
        for (std::size_t t = 0; t < form_->tubes; ++t) {
            const auto& from = ports_[kGroups * t + lane / wide];
            const std::size_t at = lane % wide;
            TubePort& to = moment.ports[t];
            const double off = double(from.spot.off[at]), row = double(from.spot.row[at]);
            to.volts[0] = form_->restPorts[t][0] + tables_[t].gridOf(off, row);
            to.volts[1] = form_->restPorts[t][1] + tables_[t].plateOf(row);
            to.now[0] = restCurrent(2 * t) + double(from.now.grid[at]);
            to.now[1] = restCurrent(2 * t + 1) + double(from.now.plate[at]);
            to.past[0] = -double(from.less.grid[at]) - 0.5 * restCurrent(2 * t);
            to.past[1] = -double(from.less.plate[at]) - 0.5 * restCurrent(2 * t + 1);
        }
        moment.ahead = ends_.get(0, lane), moment.back = ends_.get(1, lane), moment.backBefore = ends_.get(2, lane);
    }
    /// By the very arithmetic of step().
    GRISTLE_INLINED void restTables() noexcept
    {
        for (auto& table : tables_) table.rest();
    }
    const Lane* ahead() const noexcept { return ends_.data(); } ///< of each group, see SectionMoment
    /// What its source will be for the section before, which is two samples ahead of what is known.
    GRISTLE_INLINED void expectBack(Flow& out) noexcept
    {
        for (std::size_t g = 0; g < kGroups; ++g) out[g] = 3.0f * ends_[1][g] - 2.0f * ends_[2][g];
    }
    /// @param source, load  the form's sources
    GRISTLE_INLINED void step(const Flow& source, const Flow& load) noexcept
    {
        const std::size_t tubes = form_->tubes, kept = form_->motions, flows = form_->currents();
        Lane *const sources = slots_[kept], *const currents = slots_[form_->firstCurrent()];
        for (std::size_t i = 0; i < flows; i += 2)
            for (std::size_t g = 0; g < kGroups; ++g) {
                currents[kGroups * i + g] = 2.0f * before_[i][g] - last_[i][g];
                currents[kGroups * (i + 1) + g] = 3.0f * (before_[i + 1][g] - last_[i + 1][g]) + third_[i + 1][g];
            }
        for (std::size_t g = 0; g < kGroups; ++g) {
            sources[g] = source[g];
            sources[kGroups + g] = load[g];
        }
        third_.swap(last_);
        last_.swap(before_);
        fine_.times(motions_.data(), fineKnown_.data());
        known_.times(slots_.data(), spotKnown_.data());
        const float* by = couplings_.data();
        const Lane* ahead = spotKnown_.data();
        for (std::size_t t = 0; t < tubes; by += 4 * t, ahead += 2 * kGroups, ++t)
            for (std::size_t g = 0; g < kGroups; ++g) {
                typename Use::Spot to{ahead[g], ahead[kGroups + g]};
                if (t < finePorts_) to.off += Use::single(fineKnown_[t][2 * g], fineKnown_[t][2 * g + 1]);
                for (std::size_t i = 0; i < 2 * t; i += 2) { // the tube before comes last: the others do not wait
                    const Lane grid = unexpected_[i][g], plate = unexpected_[i + 1][g];
                    to.off += by[2 * i] * grid, to.row += by[2 * i + 1] * grid;
                    to.off += by[2 * i + 2] * plate, to.row += by[2 * i + 3] * plate;
                }
                const auto flow = ports_[kGroups * t + g].step(tables_[t], to);
                const auto put = [&](std::size_t i, const Lane& current) GRISTLE_INLINED_HERE {
                    unexpected_[i][g] = current - currents[kGroups * i + g];
                    before_[i][g] = currents[kGroups * i + g] = current;
                };
                put(2 * t, flow.grid), put(2 * t + 1, flow.plate);
            }
        nexts_.times(sources, next_.data());
        for (std::size_t g = 0; g < kGroups; ++g) {
            Lane toAhead = next_[kept][g], toBack = next_[kept + 1][g];
            // The motions themselves in double precision: some hold for hundreds of thousands of steps.
            const auto faded = [&](std::size_t i, std::size_t half) GRISTLE_INLINED_HERE {
                return Use::doubled(&next_[i][g], half) + form_->keeps[i] * motions_[i][2 * g + half];
            };
            const auto moveOn = [&](std::size_t i, const Doubles& first, const Doubles& second) GRISTLE_INLINED_HERE {
                toAhead += aheads_[i] * slots_[i][g];
                if (isBehind_) toBack += backs_[i] * slots_[i][g];
                motions_[i][2 * g] = first;
                motions_[i][2 * g + 1] = second;
                slots_[i][g] = Use::single(first, second);
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
            ends_[0][g] = toAhead;
            ends_[2][g] = ends_[1][g], ends_[1][g] = toBack;
        }
    }

private:
    using Doubles = typename Use::Doubles;
    static constexpr std::size_t kGroups = Use::kGroups, kHalf = Use::kHalf;

    double restCurrent(std::size_t i) const noexcept { return form_->restSlots[form_->firstCurrent() + i]; }
    using Matrix = std::vector<std::vector<double>>; ///< of rows
    static std::vector<typename Use::Table> tablesOf(const CircuitForm& form)
    {
        std::vector<typename Use::Table> out;
        for (std::size_t t = 0; t < form.tubes; ++t)
            out.emplace_back(*form.tables[t], form.restPorts[t][0], form.restPorts[t][1]);
        return out;
    }
    /// What each tube's Spot, `off` and `row`, has of all slots.
    static Matrix spotsOf(const CircuitForm& form, const std::vector<typename Use::Table>& tables)
    {
        Matrix out(2 * form.tubes);
        for (std::size_t t = 0; t < form.tubes; ++t)
            for (std::size_t i = 0; i < form.slotCount(); ++i) {
                const double grid = form.voltages[2 * t][i], plate = form.voltages[2 * t + 1][i];
                out[2 * t].push_back(tables[t].offOf(grid, plate));
                out[2 * t + 1].push_back(tables[t].rowOf(plate));
            }
        return out;
    }
    /// The grids of the first tubes: what is small there is the difference of much, and is amplified.
    static constexpr std::size_t kFine = 2;
    Matrix fineRows() const
    {
        Matrix out;
        for (std::size_t t = 0; t < finePorts_; ++t) out.push_back(spots_[2 * t]);
        return out;
    }
    /// The others, and what those have of sources and currents.
    Matrix knownRows() const
    {
        Matrix out = spots_;
        for (std::size_t t = 0; t < finePorts_; ++t) std::fill_n(out[2 * t].begin(), form_->motions, 0.0);
        return out;
    }

    std::shared_ptr<const CircuitForm> form_;
    bool isBehind_;
    std::vector<typename Use::Table> tables_;
    Matrix spots_;
    std::size_t finePorts_; ///< tubes
    /// What the motions do to the first grids; what all slots do to all else; what sources and currents give to the
    /// motions, and to both ends.
    typename Use::template Rows<Doubles> fine_;
    typename Use::template Rows<Lane> known_, nexts_;
    std::vector<float> couplings_; ///< to each tube's Spot from the currents of those before
    std::vector<float> aheads_, backs_;
    std::size_t swinging_ = 0; ///< motions, the first ones

    typename Use::template Store<Doubles> motions_;
    typename Use::template Store<Lane> slots_, next_; ///< the motions again, the sources, the currents
    typename Use::template Store<Doubles> fineKnown_;
    typename Use::template Store<Lane> spotKnown_, ends_;      ///< ends: ahead, back, and back before
    typename Use::template Store<Lane> unexpected_;            ///< the currents, less what was expected
    typename Use::template Store<Lane> before_, last_, third_; ///< the currents of the samples before
    std::vector<typename Use::Port> ports_;                    ///< of each tube, of each group
};

template<std::size_t wide> class Batch : public CircuitBatch::State {
public:
    explicit Batch(const CircuitSolver& like)
    {
        for (const auto& form : like.forms()) sections_.emplace_back(form, !sections_.empty());
    }
    void set(std::size_t lane, const CircuitMoment& moment) noexcept override
    {
        for (std::size_t i = 0; i < sections_.size(); ++i) sections_[i].set(lane, moment[i]);
    }
    void get(std::size_t lane, CircuitMoment& moment) const noexcept override
    {
        for (std::size_t i = 0; i < sections_.size(); ++i) sections_[i].get(lane, moment[i]);
    }

protected:
    GRISTLE_INLINED void restTables() noexcept
    {
        for (auto& section : sections_) section.restTables();
    }
    GRISTLE_INLINED void run(const CircuitBatch::Volts& x, std::size_t samples, float inGain, float outGain) noexcept
    {
        for (std::size_t at = 0; at < samples; at += wide) {
            const std::size_t count = std::min(wide, samples - at);
            Lane volts[kGroups][wide]; // of a lane each, turned of a sample
            for (std::size_t lane = 0; lane < kLanes; ++lane)
                copy(&volts[lane / wide][lane % wide], x[lane] + at, count);
            for (auto& group : volts) Use::turn(group);
            for (std::size_t i = 0; i < count; ++i) {
                Flow in;
                for (std::size_t g = 0; g < kGroups; ++g) in[g] = inGain * volts[g][i];
                step(in);
                for (std::size_t g = 0; g < kGroups; ++g) volts[g][i] = outGain * sections_.back().ahead()[g];
            }
            for (auto& group : volts) Use::turn(group);
            for (std::size_t lane = 0; lane < kLanes; ++lane)
                copy(x[lane] + at, &volts[lane / wide][lane % wide], count);
        }
    }

private:
    using Section = SectionBatch<wide>;
    using Use = typename Section::Use;
    using Lane = typename Section::Lane;
    using Flow = typename Section::Flow;
    static constexpr std::size_t kGroups = Use::kGroups;

    GRISTLE_INLINED static void copy(void* to, const void* from, std::size_t count) noexcept
    {
        if (count == wide)
            std::memcpy(to, from, sizeof(Lane));
        else
            std::memcpy(to, from, count * sizeof(float));
    }

    /// See CircuitSolver.
    GRISTLE_INLINED void step(const Flow& in) noexcept
    {
        Flow source = in;
        for (std::size_t i = 0; i < sections_.size(); ++i) {
            Flow given, load{};
            std::copy_n(sections_[i].ahead(), kGroups, given.begin()); // a sample ago
            if (i + 1 < sections_.size()) sections_[i + 1].expectBack(load);
            sections_[i].step(source, load);
            source = given;
        }
    }

    std::vector<Section> sections_;
};

class BatchOfEight final : public Batch<8> {
public:
    using Batch::Batch;
    std::unique_ptr<State> clone() const override { return std::make_unique<BatchOfEight>(*this); }
    void rest() noexcept override { restByEight(); }
    void process(const CircuitBatch::Volts& x, std::size_t samples, float inGain, float outGain) noexcept override
    {
        byEight(x, samples, inGain, outGain);
    }

private:
    GRISTLE_FOR_BOTH_PROCESSORS
    void restByEight() noexcept { restTables(); }
    GRISTLE_FOR_BOTH_PROCESSORS
    void byEight(const CircuitBatch::Volts& x, std::size_t samples, float inGain, float outGain) noexcept
    {
        run(x, samples, inGain, outGain);
    }
};

#ifdef GRISTLE_FOR_WIDE_PROCESSORS
class BatchOfSixteen final : public Batch<16> {
public:
    using Batch::Batch;
    std::unique_ptr<State> clone() const override { return std::make_unique<BatchOfSixteen>(*this); }
    GRISTLE_FOR_WIDE_PROCESSORS
    void rest() noexcept override { restTables(); }
    GRISTLE_FOR_WIDE_PROCESSORS
    void process(const CircuitBatch::Volts& x, std::size_t samples, float inGain, float outGain) noexcept override
    {
        run(x, samples, inGain, outGain);
    }
};
#endif

} // namespace

CircuitBatch::CircuitBatch(const CircuitSolver& like)
{
#ifdef GRISTLE_FOR_WIDE_PROCESSORS
    if (isWideProcessor()) state_ = std::make_unique<BatchOfSixteen>(like);
#endif
    if (!state_) state_ = std::make_unique<BatchOfEight>(like);
    state_->rest();
    for (std::size_t lane = 0; lane < kLanes; ++lane) set(lane, like.moment());
}
CircuitBatch::~CircuitBatch() = default;
CircuitBatch::CircuitBatch(const CircuitBatch& other) : state_(other.state_->clone()) {}
CircuitBatch::CircuitBatch(CircuitBatch&&) noexcept = default;
CircuitBatch& CircuitBatch::operator=(CircuitBatch&&) noexcept = default;

void CircuitBatch::set(std::size_t lane, const CircuitMoment& moment) noexcept { state_->set(lane, moment); }
void CircuitBatch::get(std::size_t lane, CircuitMoment& moment) const noexcept { state_->get(lane, moment); }
void CircuitBatch::process(const Volts& x, std::size_t samples, double inGain, float outGain) noexcept
{
    const NoDenormals scope;
    state_->process(x, samples, float(inGain), outGain);
}

} // namespace gristle::core
