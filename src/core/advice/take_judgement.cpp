#include "core/advice/take_judgement.h"

#include "core/advice/take_words.h"
#include "core/units/early_note.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <numeric>

namespace gristle::core {

namespace {

constexpr double kTimingMs = 12.0, kTuningCents = 8.0, kMostOne = 4.0;
constexpr double kFreeDb = 2.0, kLevelDb = 3.0, kMostLevel = 2.0;
constexpr double kClipped = 6.0, kNote = 2.0, kMostNotes = 6.0, kNoise = 0.5;
constexpr double kStrayErrors = 3.0;
constexpr std::size_t kFewestOfString = 3;
constexpr std::size_t kFewest = 2; // notes that tell the timing of a bar

double meanOf(const std::vector<double>& v)
{
    return v.empty() ? 0.0 : std::accumulate(v.begin(), v.end(), 0.0) / double(v.size());
}

double sdOf(const std::vector<double>& v)
{
    const double mean = meanOf(v);
    double sum = 0.0;
    for (const double x : v) sum += (x - mean) * (x - mean);
    return v.size() > 1 ? std::sqrt(sum / double(v.size() - 1)) : 0.0;
}

double medianOf(std::vector<double> v)
{
    std::ranges::nth_element(v, v.begin() + long(v.size() / 2));
    return v[v.size() / 2];
}

double timingCost(const BarVerdict& b)
{
    const double mean = b.strayMs.value_or(0.0);
    return std::min(kMostOne, (mean * mean + b.spreadMs * b.spreadMs) / (kTimingMs * kTimingMs));
}

double tuningCost(const BarVerdict& b)
{
    const double cents = b.cents.value_or(0.0) / kTuningCents;
    return std::min(kMostOne, cents * cents);
}

double notesCost(const BarVerdict& b) { return std::min(kMostNotes, kNote * double(b.missed + b.added)); }

double levelCost(const BarVerdict& b)
{
    const double over = std::max(0.0, std::abs(b.levelDb.value_or(0.0)) - kFreeDb) / kLevelDb;
    return std::min(kMostLevel, over * over);
}

/// The worst of a bar in few words, and whether that calls for another try.
void tellBar(BarVerdict& b, const JudgeOptions& o)
{
    struct Wrong {
        double cost;
        std::string word, sign;
        bool isBad;
    };
    std::vector<Wrong> wrongs;
    if (b.clipped > 0) wrongs.push_back({kClipped, "clipped", "clipped", true});
    if (b.isStray)
        wrongs.push_back(
            {timingCost(b), lateText(*b.strayMs),
             fmt::format("{} {}", figureText(std::abs(*b.strayMs), 0), *b.strayMs > 0.0 ? "late" : "early"), true});
    else if (b.strayMs && b.spreadMs > 2.0 * kTimingMs)
        wrongs.push_back({timingCost(b), fmt::format("uneven, {} ms", figureText(b.spreadMs, 0)), "uneven", true});
    if (b.cents && std::abs(*b.cents) > o.centsOff)
        wrongs.push_back({tuningCost(b), sharpText(*b.cents), *b.cents > 0.0 ? "sharp" : "flat", true});
    if (b.missed > 0)
        wrongs.push_back({kNote * b.missed, countText(b.missed, "note missed", "notes missed"), "missed", true});
    if (b.added > 0)
        wrongs.push_back({kNote * b.added, countText(b.added, "note too many", "notes too many"), "added", true});
    if (b.levelDb && std::abs(*b.levelDb) > o.levelOffDb)
        wrongs.push_back(
            {levelCost(b),
             fmt::format("{} dB {}", figureText(std::abs(*b.levelDb), 0), *b.levelDb > 0 ? "louder" : "softer"),
             *b.levelDb > 0 ? "loud" : "soft", false});
    if (b.noiseDb && *b.noiseDb > kNoiseBetweenDb) wrongs.push_back({kNoise, "noise between notes", "noise", false});
    const auto worst = std::ranges::max_element(wrongs, {}, &Wrong::cost);
    if (worst == wrongs.end()) return;
    b.word = worst->word, b.sign = worst->sign;
    b.isBad = std::ranges::any_of(wrongs, &Wrong::isBad);
}

/// @param byString  cents of each string's notes
std::vector<StringTuning> tunedStrings(const std::array<std::vector<double>, 6>& byString,
                                       const std::array<std::string, 6>& names, double offCents)
{
    std::vector<StringTuning> out;
    for (std::size_t s = 0; s < byString.size(); ++s) {
        const auto& own = byString[s];
        if (own.size() < kFewestOfString) continue;
        std::vector<double> others;
        for (std::size_t k = 0; k < byString.size(); ++k)
            if (k != s) others.insert(others.end(), byString[k].begin(), byString[k].end());
        StringTuning t{names[s], medianOf(own), 1.253 * sdOf(own) / std::sqrt(double(own.size())), 0.0,
                       int(own.size())};
        if (others.size() >= kFewestOfString) t.apart = t.cents - medianOf(others);
        t.isOff = t.apart != 0.0 && std::abs(t.apart) >= std::max(offCents, kStrayErrors * t.doubt);
        out.push_back(std::move(t));
    }
    return out;
}

} // namespace

double barCost(const BarVerdict& b)
{
    return timingCost(b) + tuningCost(b) + notesCost(b) + levelCost(b) + (b.clipped > 0 ? kClipped : 0.0) +
           (b.noiseDb && *b.noiseDb > kNoiseBetweenDb ? kNoise : 0.0);
}

TakeJudgement judgeTake(const TakeMeasure& take, const BarGrid& grid, const JudgeOptions& o)
{
    TakeJudgement out;
    std::map<int, BarVerdict> bars;
    struct Told {
        std::vector<double> click, earlier, cents, level;
    };
    CentsByNote byNote;
    std::array<std::vector<double>, 6> byString;
    std::map<int, Told> told;
    const auto barOf = [&](double s) { return int(std::floor(grid.barAt(s + kEarlyNoteS) + 1e-6)); };
    const int first = barOf(take.spanFromS + 1e-3);
    const int last = std::max(first, barOf(std::min(take.spanToS, take.notes.back().timeS) - 1e-3));
    for (int b = first; b <= last; ++b) bars[b].bar = b;
    const auto inside = [&](double s) { return bars.contains(barOf(s)); };
    for (const PlayedNote& n : take.notes) {
        if (!inside(n.timeS)) continue;
        const int bar = barOf(n.timeS);
        ++bars[bar].notes;
        if (n.clickMs) told[bar].click.push_back(*n.clickMs);
        if (n.cents) told[bar].cents.push_back(*n.cents), byNote[n.name].push_back(*n.cents);
        if (n.cents && n.string) byString[std::size_t(*n.string)].push_back(*n.cents);
        told[bar].level.push_back(n.levelDbfs - take.usualDbfs);
    }
    const bool isPaired = o.earlier && !o.earlier->isUnrelated && !o.earlier->isCopy;
    if (isPaired)
        for (const NotePair& n : o.earlier->notes) {
            const double own = n.timeS + 1e-3 * (n.offsetMs + o.earlier->movedMs);
            if (own >= take.spanFromS && own < take.spanToS && inside(own))
                told[barOf(own)].earlier.push_back(n.offsetMs);
        }
    for (const double t : take.clippedS)
        if (inside(t)) ++bars[barOf(t)].clipped;
    for (const double t : o.missed.missedS)
        if (inside(t)) ++bars[barOf(t)].missed;
    for (const double t : o.missed.addedS)
        if (inside(t)) ++bars[barOf(t)].added;
    for (const StrayNoise& n : take.noises)
        if (inside(n.timeS)) {
            auto& noise = bars[barOf(n.timeS)].noiseDb;
            noise = std::max(noise.value_or(-1e9), n.levelDb);
        }
    std::vector<double> timings, spreads, allCents;
    for (auto& [bar, b] : bars) {
        Told& t = told[bar];
        if (t.click.size() >= kFewest) b.clickMs = meanOf(t.click);
        if (t.earlier.size() >= kFewest) b.earlierMs = meanOf(t.earlier);
        const auto& timing = b.earlierMs ? t.earlier : t.click;
        if (timing.size() >= kFewest) {
            b.strayMs = meanOf(timing), b.spreadMs = sdOf(timing);
            if (timing.size() > 2) spreads.push_back(b.spreadMs);
            timings.insert(timings.end(), timing.begin(), timing.end());
        }
        if (!t.cents.empty()) b.cents = medianOf(t.cents);
        allCents.insert(allCents.end(), t.cents.begin(), t.cents.end());
        if (!t.level.empty()) b.levelDb = meanOf(t.level);
    }
    // Levels against the same bar's place in the part would need the part; against the take's own bars they are told.
    std::vector<double> levels;
    for (const auto& [bar, b] : bars)
        if (b.levelDb) levels.push_back(*b.levelDb);
    const double usual = levels.empty() ? 0.0 : medianOf(levels);
    if (timings.size() > 2) out.timingMedianMs = medianOf(timings), out.timingSdMs = sdOf(timings);
    const double usualSpread = spreads.empty() ? 0.0 : medianOf(spreads);
    for (auto& [bar, b] : bars) {
        if (b.levelDb) *b.levelDb -= usual;
        if (b.strayMs) {
            *b.strayMs -= out.timingMedianMs.value_or(0.0);
            const double n = double((b.earlierMs ? told[bar].earlier : told[bar].click).size());
            b.isStray = std::abs(*b.strayMs) > std::max(o.lateMs, kStrayErrors * usualSpread / std::sqrt(n));
        }
        b.cost = barCost(b);
        tellBar(b, o);
        out.cost += b.cost / double(bars.size());
        out.bars.push_back(b);
    }
    if (!allCents.empty()) out.cents = medianOf(allCents);
    out.strings = tunedStrings(byString, take.stringNames, o.stringOff);

    tellTake(take, o, byNote, out);
    return out;
}

std::optional<BestTake> bestTake(const std::vector<TakeJudgement>& takes)
{
    if (takes.empty()) return std::nullopt;
    std::size_t most = 0;
    for (const TakeJudgement& t : takes) most = std::max(most, t.bars.size());
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < takes.size(); ++i)
        if (2 * takes[i].bars.size() > most) order.push_back(i); // those of some bars do not compete with whole ones
    std::ranges::stable_sort(order, {}, [&](std::size_t i) { return takes[i].cost; });
    BestTake out;
    out.index = order[0];
    if (order.size() < 2) return out;
    out.next = order[1];
    const TakeJudgement &best = takes[order[0]], &next = takes[order[1]];
    std::vector<double> better;
    std::map<std::string, double> parts;
    for (const BarVerdict& b : best.bars) {
        const auto n = std::ranges::find(next.bars, b.bar, &BarVerdict::bar);
        if (n == next.bars.end()) continue;
        better.push_back(n->cost - b.cost);
        parts["timing"] += timingCost(*n) - timingCost(b);
        parts["tuning"] += tuningCost(*n) - tuningCost(b);
        parts["clean notes"] += notesCost(*n) - notesCost(b);
        parts["no clipping"] += kClipped * (double(n->clipped > 0) - double(b.clipped > 0));
        parts["even level"] += levelCost(*n) - levelCost(b);
    }
    const double error = sdOf(better) / std::sqrt(std::max(1.0, double(better.size())));
    const double mean = meanOf(better);
    // The standard error of a mean over few bars is itself unsure: one bar's worth of the smallest cost is added.
    out.sure = 0.5 * std::erfc(-mean / std::hypot(error, 0.05) / std::sqrt(2.0));
    const auto reason = std::ranges::max_element(parts, {}, &std::pair<const std::string, double>::second);
    if (reason == parts.end() || reason->second <= 0.0) return out;
    out.reason = reason->first;
    if (reason->first == "timing" && best.timingSdMs && next.timingSdMs)
        out.reason = fmt::format("its timing: spread {} ms, the next has {}", figureText(*best.timingSdMs),
                                 figureText(*next.timingSdMs));
    else if (reason->first == "tuning" && best.cents && next.cents)
        out.reason = fmt::format("its tuning: {} against {}", sharpText(*best.cents), sharpText(*next.cents));
    return out;
}

} // namespace gristle::core
