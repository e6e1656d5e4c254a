#include "core/rig/circuit/tube_table.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <list>
#include <mutex>
#include <thread>
#include <utility>

namespace gristle::core {

namespace {

constexpr double kLowV = 40.0, kHighV = 160.0; // of a plate, for the lines

/// The grid at which the plate's current ends.
double cutOffV(const TubeLaw& law, double plateV)
{
    const auto* const triode = std::get_if<Triode>(&law);
    const auto* const pentode = std::get_if<Pentode>(&law);
    return triode ? -plateV / triode->mu : -pentode->screenV / pentode->mu;
}

/// The plate's current less that through its own conductance.
double left(const TubeCurrents& i, double plateS, double vp) noexcept { return i.plate - plateS * vp; }

/// Voltages at a tube and the currents there.
struct Solved {
    std::array<double, 2> volts;
    TubeCurrents currents;
};

/// Solves v = p + F i(v) from a first guess by Newton's method with halved steps.
Solved solve(const TubeTable::Spec& t, std::array<double, 2> p, std::array<double, 2> v)
{
    constexpr double kNothingV = 1e-7; // a table holds single precision
    constexpr int kRounds = 100, kHalvings = 30;
    const auto& f = t.loading;
    TubePoint at = tubePoint(t.law, v[0], v[1]);
    const auto missOf = [&](std::array<double, 2> x, const TubePoint& there) {
        const double plate = left(there.currents, t.plateS, x[1]), grid = there.currents.grid;
        return std::array<double, 2>{x[0] - p[0] - f[0][0] * grid - f[0][1] * plate,
                                     x[1] - p[1] - f[1][0] * grid - f[1][1] * plate};
    };
    const auto size = [](std::array<double, 2> m) { return std::hypot(100.0 * m[0], m[1]); };
    std::array<double, 2> m = missOf(v, at);
    for (int round = 0; round < kRounds && size(m) > kNothingV; ++round) {
        const TubeSlopes& s = at.slopes;
        const double byPlate = s.plateByPlate - t.plateS, byGrid = s.plateByGrid;
        const double a = 1.0 - f[0][0] * s.gridByGrid - f[0][1] * byGrid, b = -f[0][1] * byPlate,
                     c = -f[1][0] * s.gridByGrid - f[1][1] * byGrid, d = 1.0 - f[1][1] * byPlate;
        const double det = a * d - b * c;
        const std::array<double, 2> step{(d * m[0] - b * m[1]) / det, (a * m[1] - c * m[0]) / det};
        double part = 1.0;
        for (int half = 0; half < kHalvings; ++half, part *= 0.5) {
            const std::array<double, 2> next{v[0] - part * step[0], v[1] - part * step[1]};
            const TubePoint there = tubePoint(t.law, next[0], next[1]);
            if (const auto miss = missOf(next, there); size(miss) < size(m)) {
                v = next, m = miss, at = there;
                break;
            }
        }
    }
    return {v, at.currents};
}

/// A current, but none where it is so small that arithmetic with it would take many times as long.
float heard(double ampere)
{
    constexpr double kNothingA = 1e-18;
    return std::abs(ampere) < kNothingA ? 0.0f : float(ampere);
}

/// To five digits, so that what is the same but for rounding shares a table.
double rounded(double x)
{
    if (x == 0.0) return 0.0;
    const double unit = std::pow(10.0, std::floor(std::log10(std::abs(x))) - 4.0);
    return std::round(x / unit) * unit;
}

} // namespace

TubeTable::TubeTable(const Spec& spec) : spec_(spec)
{
    // What stands at the port where the tube's own voltages are known: the plate's current comes back to the grid
    // through the capacitance between them, the more of it within a step the shorter that is, so the lines lean.
    const auto portAt = [&](double vg, double vp) {
        const TubeCurrents i = tubeCurrents(spec.law, vg, vp);
        const double plate = left(i, spec.plateS, vp);
        return std::array{vg - spec.loading[0][0] * i.grid - spec.loading[0][1] * plate,
                          vp - spec.loading[1][0] * i.grid - spec.loading[1][1] * plate};
    };
    struct Line {
        double at, lean;
    };
    const auto through = [](std::array<double, 2> a, std::array<double, 2> b) {
        const double lean = (b[0] - a[0]) / (b[1] - a[1]);
        return Line{a[0] - lean * a[1], lean};
    };
    const Line cut = through(portAt(cutOffV(spec.law, kLowV), kLowV), portAt(cutOffV(spec.law, kHighV), kHighV)),
               onset = through(portAt(0.0, kLowV), portAt(0.0, kHighV));
    lines_.middle = 0.5 * (cut.at + onset.at);
    lines_.middleLean = 0.5 * (cut.lean + onset.lean);
    lines_.half = 0.5 * (onset.at - cut.at);
    lines_.halfLean = 0.5 * (onset.lean - cut.lean);
    lines_.low = spec.plateV - spec.spanV;
    lines_.perVolt = (kRows - 1) / (2.0 * spec.spanV);
    const auto gridAt = [&](double column, double plate) { // on a whole column, counted from the first place
        const double x = (column - kMiddle) / kScale;
        return lines_.middle + lines_.middleLean * plate + halfAt(plate) * x / (1.0 - std::abs(x));
    };
    const auto plateAt = [&](double row) { return lines_.low + row / lines_.perVolt; };
    const auto plateLeft = [&](double column, double row) {
        const std::array<double, 2> p{gridAt(column, plateAt(row)), plateAt(row)};
        const Solved found = solve(spec, p, p);
        return left(found.currents, spec.plateS, found.volts[1]);
    };
    const double by = spec.gridV - lines_.middle - lines_.middleLean * spec.plateV;
    lines_.column = kMiddle + kScale * by / (std::abs(by) + halfAt(spec.plateV));
    lines_.row = (spec.plateV - lines_.low) * lines_.perVolt;
    lines_.plateA = plateLeft(lines_.column, lines_.row);
    lines_.perColumn = plateLeft(lines_.column + 0.5, lines_.row) - plateLeft(lines_.column - 0.5, lines_.row);
    lines_.perRow = plateLeft(lines_.column, lines_.row + 0.5) - plateLeft(lines_.column, lines_.row - 0.5);

    // The rows themselves, then what stands between each and the next.
    std::vector<double> rows(kHalfRow * std::size_t(kRows));
    for (int row = 0; row < kRows; ++row) {
        const double plate = plateAt(row);
        std::array<double, 2> third{0.0, plate}, before = third, last = third;
        std::array<TubeCurrents, kGrid> currents;
        for (int column = 0; column < kGrid; ++column) {
            const auto next = [&](std::size_t i) { return 3.0 * (last[i] - before[i]) + third[i]; };
            const Solved found = solve(spec, {gridAt(column + 1, plate), plate}, {next(0), next(1)});
            third = std::exchange(before, std::exchange(last, found.volts));
            currents[std::size_t(column)] = {found.currents.grid, left(found.currents, spec.plateS, found.volts[1])};
        }
        double* line = &rows[std::size_t(row) * kHalfRow];
        for (int column = -2; column < kGrid + 2; ++column) { // two more at each end, so that a place has four about it
            const auto& i = currents[std::size_t(std::clamp(column, 0, kGrid - 1))];
            *line++ = i.grid;
            *line++ = i.plate - lines_.plateA - (column + 1 - lines_.column) * lines_.perColumn -
                      (row - lines_.row) * lines_.perRow;
        }
    }
    values_.resize(kRow * std::size_t(kRows)); // none behind the last row, where no place is
    for (std::size_t row = 0; row + 1 < std::size_t(kRows); ++row)
        for (std::size_t i = 0; i < kHalfRow; ++i) {
            const double here = rows[row * kHalfRow + i], next = rows[(row + 1) * kHalfRow + i];
            values_[row * kRow + i] = heard(0.5 * (here + next));
            values_[row * kRow + kHalfRow + i] = heard(next - here);
        }
}

TubeCells::TubeCells(const TubeTable& table) : cells_(std::size_t(TubeTable::kRows * TubeTable::kColumns))
{
    for (std::size_t i = 0; i < cells_.size(); ++i) {
        const std::size_t row = i / TubeTable::kColumns, column = i % TubeTable::kColumns;
        const float* from = table.numbers() + row * TubeTable::kRow + 2 * column;
        auto& to = cells_[i].numbers;
        for (std::size_t n = 0; n < to.size(); ++n) {
            const auto& weights = TubeTable::kWeights[n % kHalf / 2];
            const float* of = from + n / kHalf * TubeTable::kHalfRow + n % 2;
            double sum = 0.0;
            for (std::size_t k = 0; k < 4; ++k) sum += double(weights[k]) * double(of[2 * k]);
            to[n] = heard(sum);
        }
    }
}

std::vector<std::shared_ptr<const TubeTable>> tubeTables(std::vector<TubeTable::Spec> specs)
{
    constexpr std::size_t kKept = 50;
    using Table = std::shared_ptr<const TubeTable>;
    static std::mutex mutex;
    static std::list<Table> kept; // the last used first
    for (auto& s : specs)
        for (auto& row : s.loading)
            for (double& ohm : row) ohm = rounded(ohm);
    std::vector<Table> out(specs.size());
    std::vector<std::size_t> missing, twins; // a twin is like a missing one before it
    {
        const std::lock_guard lock(mutex);
        for (std::size_t i = 0; i < specs.size(); ++i) {
            const auto at = std::ranges::find_if(kept, [&](const Table& t) { return t->spec() == specs[i]; });
            const bool isTwin = std::ranges::any_of(missing, [&](std::size_t m) { return specs[m] == specs[i]; });
            if (at != kept.end()) {
                out[i] = *at;
                kept.splice(kept.begin(), kept, at);
            } else {
                (isTwin ? twins : missing).push_back(i);
            }
        }
    }
    std::atomic<std::size_t> next{0};
    const auto work = [&] {
        for (std::size_t i = next++; i < missing.size(); i = next++)
            out[missing[i]] = std::make_shared<const TubeTable>(specs[missing[i]]);
    };
    {
        std::vector<std::jthread> helpers;
        const std::size_t cores = std::max(1u, std::thread::hardware_concurrency());
        for (std::size_t h = 1; h < std::min(cores, missing.size()); ++h) helpers.emplace_back(work);
        work();
    }
    for (const std::size_t i : twins)
        out[i] = out[*std::ranges::find_if(missing, [&](std::size_t m) { return specs[m] == specs[i]; })];
    const std::lock_guard lock(mutex);
    for (const std::size_t i : missing) kept.push_front(out[i]);
    if (kept.size() > kKept) kept.resize(kKept);
    return out;
}

} // namespace gristle::core
