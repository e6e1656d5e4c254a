#include "core/timing/phrases.h"

#include "core/units/early_note.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kRestDb = -34.0, kHopS = 0.01, kRestS = 0.05, kBeforeOnsetS = 0.007;

double medianOf(std::vector<double> v)
{
    if (v.empty()) return 0.0;
    std::ranges::nth_element(v, v.begin() + long(v.size() / 2));
    return v[v.size() / 2];
}

} // namespace

std::vector<Phrase> phrasesOf(const DoubleTake& take, const TakeMeasure& second, const BarGrid& grid)
{
    std::vector<Phrase> out;
    if (second.notes.empty()) return out;
    // Middles of rests, with where each rest began.
    std::vector<double> cuts{std::min(second.spanFromS, second.notes.front().timeS)};
    double began = -1.0;
    const double lastNote = second.notes.back().timeS;
    for (double t = second.notes.front().timeS; t < lastNote; t += kHopS) {
        const bool rests = second.levelAt(t) < kRestDb;
        if (rests && began < 0.0) began = t;
        if (rests || began < 0.0) continue;
        const double length = t - began, middle = began + 0.5 * length;
        began = -1.0;
        if (length < kRestS || middle - cuts.back() < 60.0 / grid.bpmAt(middle)) continue;
        cuts.push_back(middle);
    }
    cuts.push_back(second.endS);
    for (std::size_t i = 0; i + 1 < cuts.size(); ++i) {
        Phrase p;
        p.fromS = cuts[i], p.toS = cuts[i + 1];
        std::vector<double> offsets, cents;
        double first = -1.0, last = 0.0;
        for (const NotePair& n : take.notes) {
            const double own = n.timeS + 1e-3 * (n.offsetMs + take.movedMs);
            if (own < p.fromS || own >= p.toS) continue;
            if (first < 0.0) first = own;
            last = own;
            offsets.push_back(n.offsetMs);
            if (n.cents) cents.push_back(*n.cents);
        }
        if (offsets.empty()) continue;
        p.notes = int(offsets.size());
        p.offsetMs = medianOf(offsets);
        if (!cents.empty()) p.cents = medianOf(cents);
        p.firstBar = int(std::floor(grid.barAt(first + kEarlyNoteS))),
        p.lastBar = int(std::floor(grid.barAt(last + kEarlyNoteS)));
        p.beforeMs = 1000.0 * (first - p.fromS);
        out.push_back(p);
    }
    return out;
}

std::optional<std::pair<double, double>> movableBars(const TakeMeasure& second, const BarGrid& grid, int firstBar,
                                                     int lastBar, double laterMs)
{
    const auto before = [&](double bar) -> std::optional<double> {
        const double line = grid.secondsOfBar(bar), beat = 60.0 / grid.bpmAt(line);
        const auto at = std::ranges::lower_bound(second.notes, line - kEarlyNoteS, {}, &PlayedNote::timeS);
        if (at == second.notes.end() || at->timeS > line + 0.5 * beat) return std::nullopt;
        return at->timeS + std::min(0.0, 1e-3 * laterMs) - kBeforeOnsetS;
    };
    const auto from = before(firstBar);
    auto to = before(lastBar + 1);
    if (!to && second.notes.back().timeS < grid.secondsOfBar(lastBar + 1) + 0.1) to = second.endS; // nothing follows
    if (!from || !to) return std::nullopt;
    return std::pair(std::max(0.0, *from), *to);
}

} // namespace gristle::core
