// Wide registers are handed to inlined functions alone.
#pragma GCC diagnostic ignored "-Wpsabi"

#include "core/rig/circuit/circuits_abreast.h"

#include "core/rig/circuit/processors.h"

#include <bit>
#include <cstring>

#define GRISTLE_INLINED [[gnu::always_inline]] inline
#define GRISTLE_INLINED_HERE __attribute__((always_inline))

namespace gristle::core {

namespace {

constexpr std::size_t kLanes = CircuitsAbreast::kLanes;

template<std::size_t wide> struct Vectors;
template<> struct Vectors<4> {
    typedef double Doubles __attribute__((vector_size(32)));
    typedef float Floats __attribute__((vector_size(16)));
    typedef float Pairs __attribute__((vector_size(32))); ///< of grid and plate, in turns
};
template<> struct Vectors<8> {
    typedef double Doubles __attribute__((vector_size(64)));
    typedef float Floats __attribute__((vector_size(32)));
    typedef float Pairs __attribute__((vector_size(64)));
};

/// For a processor that takes so many numbers at once. The lanes in one of its registers are a group.
template<std::size_t wide> struct Registers {
    static constexpr std::size_t kGroups = kLanes / wide;
    using Lane = typename Vectors<wide>::Doubles;
    using Floats = typename Vectors<wide>::Floats;
    using Pairs = typename Vectors<wide>::Pairs;

    struct Two { ///< of grid and plate
        Lane grid{}, plate{};
    };

    /// Numbers of every lane: of each number its groups, on the places that registers want.
    class Store {
    public:
        explicit Store(std::size_t numbers) : places_(kGroups * numbers) {}
        Lane* data() noexcept { return &places_[0].of; }
        Lane* operator[](std::size_t number) noexcept { return data() + kGroups * number; }
        double get(std::size_t number, std::size_t lane) const noexcept
        {
            return places_[kGroups * number + lane / wide].of[lane % wide];
        }
        void set(std::size_t number, std::size_t lane, double to) noexcept
        {
            places_[kGroups * number + lane / wide].of[lane % wide] = to;
        }
        void swap(Store& other) noexcept { places_.swap(other.places_); }

    private:
        struct alignas(sizeof(Lane)) Place {
            Lane of{};
        };
        std::vector<Place> places_;
    };

    /// Rows of a matrix times some numbers of each lane, a few rows at a time in registers.
    class Rows {
    public:
        /// @param rows     each with its constant behind
        /// @param columns  which of them, constant apart
        Rows(const std::vector<std::vector<double>>& rows, const std::vector<std::size_t>& columns)
            : columns_(columns.size()), size_((rows.size() + kHigh - 1) / kHigh * kHigh)
        {
            for (std::size_t at = 0; at < size_; at += kHigh)
                for (std::size_t i = 0; i <= columns_; ++i)
                    for (std::size_t r = at; r < at + kHigh; ++r)
                        values_.push_back(r >= rows.size() ? 0.0 : i == 0 ? rows[r].back() : rows[r][columns[i - 1]]);
        }
        std::size_t size() const noexcept { return size_; } ///< of the result, padded
        GRISTLE_INLINED void times(const Lane* numbers, Lane* out) const noexcept
        {
            const double* value = values_.data();
            for (Lane* const end = out + kGroups * size_; out < end; out += kGroups * kHigh) {
                Lane sum[kGroups * kHigh];
                for (std::size_t r = 0; r < kHigh; ++r, ++value)
                    for (std::size_t g = 0; g < kGroups; ++g) sum[kGroups * r + g] = Lane{} + *value;
                for (const Lane* n = numbers; n < numbers + kGroups * columns_; n += kGroups)
                    for (std::size_t r = 0; r < kHigh; ++r, ++value)
                        for (std::size_t g = 0; g < kGroups; ++g) sum[kGroups * r + g] += n[g] * *value;
                for (std::size_t r = 0; r < kGroups * kHigh; ++r) out[r] = sum[r];
            }
        }

    private:
        static constexpr std::size_t kHigh = 6;
        std::size_t columns_, size_;
        std::vector<double> values_; ///< of kHigh rows after the other: the constants, then those of each column
    };

    /// Into the table for every lane of a group.
    GRISTLE_INLINED static Two lookUp(const TubeTable& table, const Two& at) noexcept
    {
        const auto places = table.placesAt(at.grid, at.plate);
        const Floats along = __builtin_convertvector(places.along, Floats),
                     across = __builtin_convertvector(places.across, Floats);
        alignas(sizeof(Lane)) std::size_t from[wide];
        std::memcpy(from, &places.from, sizeof from);
        asm("" : "+m"(from)); // read from memory one by one, which is quicker than out of the register
        // A register holds the eight of one place, or of two.
        const auto weighed = [&]<int k>() GRISTLE_INLINED_HERE {
            Pairs out;
            TubeTable::Eight row, next;
            if constexpr (wide == 4) {
                table.rowsAt(from[k], row, next);
                TubeTable::weigh<Pairs>(row, next, __builtin_shufflevector(along, along, k, k, k, k, k, k, k, k),
                                        __builtin_shufflevector(across, across, k, k, k, k, k, k, k, k), out);
            } else {
                constexpr int a = 2 * k, b = 2 * k + 1;
                const auto both = [](const auto& x, const auto& y) GRISTLE_INLINED_HERE {
                    return __builtin_shufflevector(x, y, 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15);
                };
                const auto part = [](const Floats& x) GRISTLE_INLINED_HERE {
                    return __builtin_shufflevector(x, x, a, a, a, a, a, a, a, a, b, b, b, b, b, b, b, b);
                };
                TubeTable::Eight otherRow, otherNext;
                table.rowsAt(from[a], row, next);
                table.rowsAt(from[b], otherRow, otherNext);
                TubeTable::weigh<Pairs>(both(row, otherRow), both(next, otherNext), part(along), part(across), out);
            }
            return out;
        };
        // Sums of columns two by two, then of all four.
        const auto halves = [](const Pairs& x, const Pairs& y) GRISTLE_INLINED_HERE {
            const Lane a = std::bit_cast<Lane>(x), b = std::bit_cast<Lane>(y);
            if constexpr (wide == 4)
                return std::bit_cast<Lane>(std::bit_cast<Pairs>(__builtin_shufflevector(a, b, 0, 4, 2, 6)) +
                                           std::bit_cast<Pairs>(__builtin_shufflevector(a, b, 1, 5, 3, 7)));
            else
                return std::bit_cast<Lane>(
                    std::bit_cast<Pairs>(__builtin_shufflevector(a, b, 0, 8, 2, 10, 4, 12, 6, 14)) +
                    std::bit_cast<Pairs>(__builtin_shufflevector(a, b, 1, 9, 3, 11, 5, 13, 7, 15)));
        };
        const Lane a = halves(weighed.template operator()<0>(), weighed.template operator()<1>()),
                   b = halves(weighed.template operator()<2>(), weighed.template operator()<3>());
        if constexpr (wide == 4) {
            const Pairs all = std::bit_cast<Pairs>(__builtin_shufflevector(a, b, 0, 1, 4, 5)) +
                              std::bit_cast<Pairs>(__builtin_shufflevector(a, b, 2, 3, 6, 7));
            return {__builtin_convertvector(__builtin_shufflevector(all, all, 0, 2, 4, 6), Lane),
                    __builtin_convertvector(__builtin_shufflevector(all, all, 1, 3, 5, 7), Lane)};
        } else { // the lanes stand as 0, 2, 1, 3 and so on
            const Pairs all = std::bit_cast<Pairs>(__builtin_shufflevector(a, b, 0, 1, 4, 5, 8, 9, 12, 13)) +
                              std::bit_cast<Pairs>(__builtin_shufflevector(a, b, 2, 3, 6, 7, 10, 11, 14, 15));
            return {__builtin_convertvector(__builtin_shufflevector(all, all, 0, 4, 2, 6, 8, 12, 10, 14), Lane),
                    __builtin_convertvector(__builtin_shufflevector(all, all, 1, 5, 3, 7, 9, 13, 11, 15), Lane)};
        }
    }

    /// As TubePort, of a group.
    struct alignas(sizeof(Lane)) Port {
        Two volts, now, mean, before, third;
        double offsetGrid = 0.0, offsetPlate = 0.0;

        /// The currents.
        GRISTLE_INLINED Two step(const TubeTable& table, const Two& to) noexcept
        {
            constexpr double kBentA = 1e-5, kHalf = 2.0 / 3.0;
            const Two middle{0.5 * (volts.grid + to.grid), 0.5 * (volts.plate + to.plate)};
            Two end = lookUp(table, to), half = lookUp(table, middle);
            end.grid += offsetGrid, end.plate += offsetPlate;
            half.grid += offsetGrid, half.plate += offsetPlate;
            const Two straight{0.5 * (now.grid + end.grid), 0.5 * (now.plate + end.plate)};
            const Two bent{half.grid - straight.grid, half.plate - straight.plate};
            Two line{straight.grid + kHalf * bent.grid, straight.plate + kHalf * bent.plate};
            const auto isBent =
                (bent.grid < 0.0 ? -bent.grid : bent.grid) + (bent.plate < 0.0 ? -bent.plate : bent.plate) >= kBentA;
            long long isAny = 0;
            for (std::size_t i = 0; i < wide; ++i) isAny |= isBent[i];
            if (isAny) { // by trapezoids in quarters
                const Two early = lookUp(table, {0.5 * (volts.grid + middle.grid), 0.5 * (volts.plate + middle.plate)}),
                          late = lookUp(table, {0.5 * (middle.grid + to.grid), 0.5 * (middle.plate + to.plate)});
                const Lane grid = 0.25 * (early.grid + late.grid + half.grid + straight.grid + 2.0 * offsetGrid),
                           plate = 0.25 * (early.plate + late.plate + half.plate + straight.plate + 2.0 * offsetPlate);
                line.grid = isBent ? grid : line.grid;
                line.plate = isBent ? plate : line.plate;
            }
            const Two out{(0.625 * before.grid - 0.125 * third.grid - 1.375 * mean.grid) + 1.875 * line.grid,
                          (0.625 * before.plate - 0.125 * third.plate - 1.375 * mean.plate) + 1.875 * line.plate};
            third = before, before = mean, mean = line, now = end, volts = to;
            return out;
        }
    };
};

std::vector<std::size_t> slotsFrom(std::size_t first, std::size_t count)
{
    std::vector<std::size_t> out(count);
    for (std::size_t i = 0; i < count; ++i) out[i] = first + i;
    return out;
}

/// The motions, and the input behind them.
std::vector<std::size_t> knownSlots(const CircuitForm& form)
{
    auto out = slotsFrom(0, form.motions);
    out.push_back(form.slotCount() - 1);
    return out;
}

} // namespace

/// For any width of registers.
struct CircuitsAbreast::State {
    virtual ~State() = default;
    virtual void set(std::size_t lane, const CircuitMoment& moment) noexcept = 0;
    virtual void get(std::size_t lane, CircuitMoment& moment) noexcept = 0;
    virtual void process(const Volts& x, std::size_t samples, double inGain, float outGain) noexcept = 0;
};

namespace {

template<std::size_t wide> class Abreast : public CircuitsAbreast::State {
public:
    explicit Abreast(const CircuitSolver& like)
        : form_(like.form()), restOut_(like.restVolts()), known_(form_->voltages, knownSlots(*form_)),
          nexts_(form_->given, slotsFrom(0, form_->currents() + 1)), motions_(nexts_.size() + 1),
          next_(nexts_.size() + 1), volts_(known_.size()), currents_(form_->currents() + 1), before_(form_->currents()),
          last_(form_->currents()), third_(form_->currents()), ports_(kGroups * form_->tubes)
    {
        for (const auto& row : form_->voltages)
            ofCurrents_.insert(ofCurrents_.end(), row.begin() + long(form_->motions),
                               row.begin() + long(form_->motions + form_->currents()));
    }
    void set(std::size_t lane, const CircuitMoment& moment) noexcept override
    {
        for (std::size_t i = 0; i < form_->motions; ++i) motions_.set(i, lane, moment.held[i]);
        for (std::size_t i = 0; i < form_->currents(); ++i) {
            before_.set(i, lane, moment.before[i]);
            last_.set(i, lane, moment.last[i]);
            third_.set(i, lane, moment.third[i]);
        }
        for (std::size_t t = 0; t < form_->tubes; ++t) {
            const TubePort& from = moment.ports[t];
            auto& to = ports_[kGroups * t + lane / wide];
            const auto two = [&](typename Use::Two& into, TubePort::Two of) {
                into.grid[lane % wide] = of[0];
                into.plate[lane % wide] = of[1];
            };
            two(to.volts, from.volts), two(to.now, from.now), two(to.mean, from.mean);
            two(to.before, from.before), two(to.third, from.third);
            to.offsetGrid = from.offset[0];
            to.offsetPlate = from.offset[1];
        }
    }
    void get(std::size_t lane, CircuitMoment& moment) noexcept override
    {
        for (std::size_t i = 0; i < form_->motions; ++i) moment.held[i] = motions_.get(i, lane);
        for (std::size_t i = 0; i < form_->currents(); ++i) {
            moment.before[i] = before_.get(i, lane);
            moment.last[i] = last_.get(i, lane);
            moment.third[i] = third_.get(i, lane);
        }
        for (std::size_t t = 0; t < form_->tubes; ++t) {
            const auto& from = ports_[kGroups * t + lane / wide];
            TubePort& to = moment.ports[t];
            const auto two = [&](const typename Use::Two& of) {
                return TubePort::Two{of.grid[lane % wide], of.plate[lane % wide]};
            };
            to.volts = two(from.volts), to.now = two(from.now), to.mean = two(from.mean);
            to.before = two(from.before), to.third = two(from.third);
        }
    }

protected:
    GRISTLE_INLINED void run(const CircuitsAbreast::Volts& x, std::size_t samples, double inGain,
                             float outGain) noexcept
    {
        for (std::size_t at = 0; at < samples; ++at) {
            for (std::size_t g = 0; g < kGroups; ++g) {
                typename Use::Floats in;
                for (std::size_t i = 0; i < wide; ++i) in[i] = x[wide * g + i][at];
                currents_[form_->currents()][g] = motions_[form_->motions][g] =
                    inGain * __builtin_convertvector(in, Lane);
            }
            step();
            for (std::size_t g = 0; g < kGroups; ++g) {
                const typename Use::Floats out = outGain * __builtin_convertvector(volts_[0][g], typename Use::Floats);
                for (std::size_t i = 0; i < wide; ++i) x[wide * g + i][at] = out[i];
            }
        }
    }

private:
    using Use = Registers<wide>;
    using Lane = typename Use::Lane;
    static constexpr std::size_t kGroups = Use::kGroups;

    /// From the input behind motions and currents to the output in the first of `volts_`. See CircuitSolver.
    GRISTLE_INLINED void step() noexcept
    {
        const std::size_t tubes = form_->tubes, kept = form_->motions, flows = form_->currents();
        for (std::size_t i = 0; i < flows; i += 2)
            for (std::size_t g = 0; g < kGroups; ++g) {
                currents_[i][g] = 2.0 * before_[i][g] - last_[i][g];
                currents_[i + 1][g] = 3.0 * (before_[i + 1][g] - last_[i + 1][g]) + third_[i + 1][g];
            }
        third_.swap(last_);
        last_.swap(before_);
        known_.times(motions_.data(), volts_.data());
        const double* by = ofCurrents_.data();
        for (std::size_t t = 0; t < tubes; ++t, by += 2 * flows)
            for (std::size_t g = 0; g < kGroups; ++g) {
                typename Use::Two to{volts_[2 * t][g], volts_[2 * t + 1][g]}, odd{};
                for (std::size_t i = 0; i < flows; i += 2) {
                    to.grid += by[i] * currents_[i][g], to.plate += by[flows + i] * currents_[i][g];
                    odd.grid += by[i + 1] * currents_[i + 1][g], odd.plate += by[flows + i + 1] * currents_[i + 1][g];
                }
                const auto flow =
                    ports_[kGroups * t + g].step(*form_->tables[t], {to.grid + odd.grid, to.plate + odd.plate});
                before_[2 * t][g] = currents_[2 * t][g] = flow.grid;
                before_[2 * t + 1][g] = currents_[2 * t + 1][g] = flow.plate;
            }
        nexts_.times(currents_.data(), next_.data());
        for (std::size_t g = 0; g < kGroups; ++g) {
            Lane out = next_[kept][g] - restOut_;
            for (std::size_t i = 0; i < kept; ++i) {
                next_[i][g] += form_->keeps[i] * motions_[i][g];
                out += form_->heard[i] * motions_[i][g];
            }
            for (std::size_t i = 0; i + 1 < kept && form_->swings[i] != 0.0; i += 2) {
                next_[i][g] += form_->swings[i] * motions_[i + 1][g];
                next_[i + 1][g] += form_->swings[i + 1] * motions_[i][g];
            }
            volts_[0][g] = out;
        }
        motions_.swap(next_);
    }

    std::shared_ptr<const CircuitForm> form_;
    double restOut_;
    typename Use::Rows known_;       ///< two voltages of each tube, what motions and input do
    typename Use::Rows nexts_;       ///< what currents and input give to the motions, and the output
    std::vector<double> ofCurrents_; ///< what the currents do to the voltages, by rows

    typename Use::Store motions_, next_, volts_; ///< behind the motions the input
    typename Use::Store currents_;               ///< the input behind them
    typename Use::Store before_, last_, third_;  ///< the currents of the samples before
    std::vector<typename Use::Port> ports_;      ///< of each tube, of each group
};

class AbreastByFour final : public Abreast<4> {
public:
    using Abreast::Abreast;
    void process(const CircuitsAbreast::Volts& x, std::size_t samples, double inGain, float outGain) noexcept override
    {
        byFour(x, samples, inGain, outGain);
    }

private:
    GRISTLE_FOR_BOTH_PROCESSORS
    void byFour(const CircuitsAbreast::Volts& x, std::size_t samples, double inGain, float outGain) noexcept
    {
        run(x, samples, inGain, outGain);
    }
};

#ifdef GRISTLE_FOR_WIDE_PROCESSORS
class AbreastByEight final : public Abreast<8> {
public:
    using Abreast::Abreast;
    GRISTLE_FOR_WIDE_PROCESSORS
    void process(const CircuitsAbreast::Volts& x, std::size_t samples, double inGain, float outGain) noexcept override
    {
        run(x, samples, inGain, outGain);
    }
};
#endif

} // namespace

CircuitsAbreast::CircuitsAbreast(const CircuitSolver& like)
{
#ifdef GRISTLE_FOR_WIDE_PROCESSORS
    if (isWideProcessor()) state_ = std::make_unique<AbreastByEight>(like);
#endif
    if (!state_) state_ = std::make_unique<AbreastByFour>(like);
    for (std::size_t lane = 0; lane < kLanes; ++lane) set(lane, like.moment());
}
CircuitsAbreast::~CircuitsAbreast() = default;
CircuitsAbreast::CircuitsAbreast(CircuitsAbreast&&) noexcept = default;
CircuitsAbreast& CircuitsAbreast::operator=(CircuitsAbreast&&) noexcept = default;

void CircuitsAbreast::set(std::size_t lane, const CircuitMoment& moment) noexcept { state_->set(lane, moment); }
void CircuitsAbreast::get(std::size_t lane, CircuitMoment& moment) const noexcept { state_->get(lane, moment); }
void CircuitsAbreast::process(const Volts& x, std::size_t samples, double inGain, float outGain) noexcept
{
    state_->process(x, samples, inGain, outGain);
}

} // namespace gristle::core
