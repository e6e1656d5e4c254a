#include "core/timing/double_take.h"

#include "core/signal/fft.h"
#include "core/timing/attack_match.h"
#include "core/timing/detuning.h"
#include "core/timing/lacking.h"
#include "core/timing/offset_spread.h"
#include "core/timing/onset_pairs.h"
#include "core/timing/pitch_match.h"
#include "core/units/median.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <future>
#include <map>
#include <numeric>

namespace gristle::core {

namespace {

constexpr double kFewest = 0.5;      // of the notes of the shorter one
constexpr double kLeastAlike = 0.7;  // in sound, on the mean, where too few notes tell their pitch
constexpr double kSameRhythm = 0.75; // of the notes of the longer one meet one of the other
constexpr double kWorthMoving = 1.02;
constexpr double kSteadyMs = 1.2; // median deviation of the offsets of a copy, whatever it went through
constexpr double kKept = 0.28;    // of copies 0.34 and more, of hands 0.05 ms apart 0.23 at most
constexpr double kFarS = 0.035, kSharpDb = 15.0;
constexpr double kAdriftMs = 35.0;
constexpr double kSoundsS = 0.3; // of a note that its pitch is taken from, at most

std::pair<double, double> meanAndSd(const std::vector<double>& v)
{
    if (v.empty()) return {0.0, 0.0};
    const double mean = std::accumulate(v.begin(), v.end(), 0.0) / double(v.size());
    double sum = 0.0;
    for (const double x : v) sum += (x - mean) * (x - mean);
    return {mean, v.size() > 1 ? std::sqrt(sum / double(v.size() - 1)) : 0.0};
}

using Sound = ThirdLevels;

/// Their mean taken off, of length 1.
std::vector<Sound> soundsOf(std::vector<ThirdLevels> out)
{
    for (Sound& sound : out) {
        const double mean = std::accumulate(sound.begin(), sound.end(), 0.0) / double(sound.size());
        double norm = 0.0;
        for (double& v : sound) v -= mean, norm += v * v;
        for (double& v : sound) v /= std::sqrt(norm) + 1e-12;
    }
    return out;
}

double likeness(const Sound& a, const Sound& b) { return std::inner_product(a.begin(), a.end(), b.begin(), 0.0); }

/// Differences that many pairs of onsets share, to 10 ms, the most shared first, 50 ms apart at least; none among them.
std::vector<double> sharedMoves(const std::vector<Onset>& a, const std::vector<Onset>& b)
{
    constexpr double kBinS = 0.01, kMostS = 60.0;
    constexpr long kReach = 5; // as far as players wander
    constexpr std::size_t kMost = 12;
    std::map<long, double> votes;
    for (const Onset& x : a)
        for (const Onset& y : b)
            if (std::abs(y.timeS - x.timeS) < kMostS) votes[std::lround((y.timeS - x.timeS) / kBinS)] += 1.0;
    std::vector<std::pair<double, long>> ranked;
    for (const auto& [bin, unused] : votes) {
        double sum = 0.0;
        for (long k = -kReach; k <= kReach; ++k)
            if (const auto at = votes.find(bin + k); at != votes.end())
                sum += at->second * (1.0 - double(std::abs(k)) / (kReach + 1));
        ranked.emplace_back(sum, bin);
    }
    std::ranges::sort(ranked, std::greater{});
    std::vector<double> out{0.0};
    for (const auto& [sum, bin] : ranked) {
        const double move = double(bin) * kBinS;
        if (std::ranges::all_of(out, [&](double other) { return std::abs(other - move) > 0.05; })) out.push_back(move);
        if (out.size() > kMost) break;
    }
    return out;
}

/// The same part at another tempo: the ratio by which the second's onsets are stretched so that most of them meet.
std::optional<double> otherTempo(const std::vector<Onset>& a, const std::vector<Onset>& b,
                                 const std::vector<Sound>& soundsA, const std::vector<Sound>& soundsB)
{
    constexpr double kMost = 0.15, kStep = 0.0025, kMet = 0.8, kFar = 0.05, kTightS = 0.02;
    constexpr std::size_t kFewestNotes = 8;
    if (std::min(a.size(), b.size()) < kFewestNotes) return std::nullopt;
    std::optional<double> best;
    double most = kMet * double(std::min(a.size(), b.size()));
    for (double ratio = 1.0 - kMost; ratio <= 1.0 + kMost; ratio += kStep) {
        auto scaled = b;
        for (Onset& o : scaled) o.timeS = a.front().timeS + (o.timeS - b.front().timeS) / ratio;
        double sum = 0.0, met = 0.0;
        std::vector<double> apart;
        for (const auto& [i, j] : pairedOnsets(a, scaled, 0.0)) {
            if (std::abs(scaled[j].timeS - a[i].timeS) > kFar) continue;
            sum += likeness(soundsA[i], soundsB[j]), met += 1.0;
            apart.push_back(scaled[j].timeS - a[i].timeS);
        }
        if (meanAndSd(apart).second > kTightS) continue; // a wandering hand is no other tempo
        if (std::abs(ratio - 1.0) > 0.5 * kStep && met > most && sum / met > kLeastAlike) most = met, best = ratio;
    }
    return best;
}

/// By how much notes that follow each other make a mean more doubtful than single ones would: hands wander slowly.
/// 1 + 2 sum of the autocorrelations, up to the first that is none. Source: Priestley 1981, Spectral analysis and time
/// series, 5.3.2.
double wanderOf(const std::vector<double>& v)
{
    constexpr double kNone = 0.05;
    const auto [mean, sd] = meanAndSd(v);
    double out = 1.0;
    for (std::size_t k = 1; k < v.size() / 4 && sd > 0.0; ++k) {
        double sum = 0.0;
        for (std::size_t i = k; i < v.size(); ++i) sum += (v[i] - mean) * (v[i - k] - mean);
        const double alike = sum / (double(v.size()) * sd * sd);
        if (alike < kNone) break;
        out += 2.0 * alike;
    }
    return out;
}

std::vector<DoubtedOffset> doubted(const std::vector<NotePair>& notes)
{
    // Doubts allow for a few that are placed far away: two in three are off by less than half of it.
    constexpr double kTypical = 0.5;
    std::vector<DoubtedOffset> out;
    for (const NotePair& n : notes) out.push_back({n.offsetMs, kTypical * n.offsetDoubtMs});
    return out;
}

HandsApart handsApart(const std::vector<Onset>& a, const std::vector<Onset>& b, const OnsetPairs& pairs)
{
    constexpr double kLeastS = 0.005, kSdOfMedian = 1.4826; // of a normal distribution
    std::vector<double> apart, away;
    for (const auto& [i, j] : pairs) apart.push_back(b[j].timeS - a[i].timeS);
    const double middle = median(apart);
    for (const double v : apart) away.push_back(std::abs(v - middle));
    return {middle, std::max(kLeastS, kSdOfMedian * median(std::move(away)))};
}

/// How the offsets move from the first note to the last.
void tellDrift(DoubleTake& take)
{
    constexpr std::size_t kMostNotes = 600; // all pairs of more take too long
    if (take.notes.size() < DoubleTake::kFewestPairs) return;
    const std::size_t step = take.notes.size() / kMostNotes + 1;
    const auto at = [&](std::size_t i) -> const NotePair& { return take.notes[i * step]; };
    const std::size_t n = (take.notes.size() + step - 1) / step;
    std::vector<double> slopes;
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = i + 1; j < n; ++j)
            if (at(j).timeS > at(i).timeS)
                slopes.push_back((at(j).offsetMs - at(i).offsetMs) / (at(j).timeS - at(i).timeS));
    const double slope = median(std::move(slopes)), lasts = take.notes.back().timeS - take.notes.front().timeS;
    double meanS = 0.0, square = 0.0;
    std::vector<double> rest;
    for (const NotePair& p : take.notes) meanS += p.timeS / double(take.notes.size());
    for (const NotePair& p : take.notes) {
        rest.push_back(p.offsetMs - slope * p.timeS);
        square += (p.timeS - meanS) * (p.timeS - meanS);
    }
    take.driftMs = slope * lasts;
    take.driftDoubtMs = square > 0.0 ? meanAndSd(rest).second * std::sqrt(wanderOf(rest) / square) * lasts : 0.0;
}

} // namespace

Result<DoubleTake> comparePerformances(std::span<const float> first, std::span<const float> second, double rateHz,
                                       const Progress& progress)
{
    auto heardSecond = std::async([&] { return HeardPart(second, rateHz); }); // a core each
    const HeardPart partA(first, rateHz);
    progress.at(0.3);
    const HeardPart partB = heardSecond.get();
    progress.at(0.6);
    const auto &a = partA.onsets, &b = partB.onsets;
    if (a.empty() || b.empty())
        return Error{ErrorCode::OutOfRange,
                     std::string("double: nobody plays in the ") + (a.empty() ? "first" : "second") + " recording",
                     "choose two takes of one part"};
    DoubleTake out;
    // Where a part repeats itself, what sounds decides by which repetition the second is moved.
    const auto soundsA = soundsOf(partA.levels), soundsB = soundsOf(partB.levels);
    OnsetPairs pairs;
    double moved = 0.0, best = -1.0, alike = 0.0;
    for (const double move : sharedMoves(a, b)) {
        auto these = pairedOnsets(a, b, move);
        double sum = 0.0;
        for (const auto& [i, j] : these) sum += likeness(soundsA[i], soundsB[j]);
        if (sum > best * kWorthMoving)
            best = sum, moved = move, alike = sum / double(these.size()), pairs = std::move(these);
    }
    out.movedMs = 1000.0 * moved;
    const auto lackedBy = [&](const HeardPart& has, auto index, const HeardPart& other, double laterS,
                              const SoundsApart& otherBeside) {
        std::vector<double> left;
        std::size_t next = 0;
        for (std::size_t k = 0; k < has.onsets.size(); ++k)
            if (next < pairs.size() && index(pairs[next]) == k)
                ++next;
            else if (chanceOfLack(lackClues(has, k, other, laterS, otherBeside, rateHz)) > kSureLack)
                left.push_back(has.onsets[k].timeS);
        return left;
    };
    const SoundsApart apartInSound = soundsApart(partA, partB, pairs);
    out.onlyFirstS = lackedBy(
        partA, [](const auto& p) { return p.first; }, partB, moved, apartInSound);
    out.onlySecondS = lackedBy(
        partB, [](const auto& p) { return p.second; }, partA, -moved, apartInSound.turned());
    out.unmatchedFirst = out.onlyFirstS.size(), out.unmatchedSecond = out.onlySecondS.size();
    const bool meet = !pairs.empty() && double(pairs.size()) >= kFewest * double(std::min(a.size(), b.size()));
    out.isUnrelated = !meet || alike < kLeastAlike;
    out.likeness = alike;
    if (meet) {
        PitchMatch pitch = matchPitches(first, a, second, b, pairs, rateHz);
        if (moved != 0.0 && !pitch.areSameNotes() && pitch.semitonesHigher() == 0) {
            // At another pitch another repetition may sound more alike than the same one.
            auto unmoved = pairedOnsets(a, b, 0.0);
            auto there = matchPitches(first, a, second, b, unmoved, rateHz);
            if (there.semitonesHigher() != 0) pitch = there, pairs = std::move(unmoved), out.movedMs = moved = 0.0;
        }
        if (pitch.notes >= DoubleTake::kFewestPairs) { // else the sound decides
            const double met =
                double(pairs.size()) / double(pairs.size() + std::max(out.unmatchedFirst, out.unmatchedSecond));
            const auto elsewhere = stretchesAtAnotherPitch(pitch);
            const bool isSame = pitch.areSameNotesBesides(elsewhere);
            if (isSame) out.otherPitch = elsewhere;
            out.semitonesHigher = isSame ? 0 : pitch.semitonesHigher();
            out.isOtherNotes = out.semitonesHigher == 0 && !isSame && met >= kSameRhythm;
            out.isUnrelated = !isSame;
        }
    }
    // A pair of notes far from where the others say, with an attack where they say: each is the other's neighbour, no
    // pair.
    std::vector<double> apart;
    for (const auto& [i, j] : pairs) apart.push_back(b[j].timeS - a[i].timeS - moved);
    const double usual = median(apart);
    std::erase_if(pairs, [&](const auto& pair) {
        const double at = a[pair.first].timeS + moved + usual;
        return std::abs(b[pair.second].timeS - at) > kFarS && attackSharpDb(second, rateHz, at) > kSharpDb;
    });
    const HandsApart hands = handsApart(a, b, pairs);
    std::vector<double> offsets, cents, levels;
    RealFft fft(fastFftSize(4 * std::size_t(kSoundsS * rateHz)));
    for (const auto& [i, j] : pairs) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "double: stopped", ""};
        NotePair note;
        note.timeS = a[i].timeS;
        const AttackMatch match = matchAttacks(first, a[i], second, b[j], rateHz, hands);
        note.offsetMs = 1000.0 * (b[j].timeS - a[i].timeS - moved + match.shiftS);
        note.offsetDoubtMs = offsetDoubtMs(match, likeness(soundsA[i], soundsB[j]));
        note.levelDb = b[j].levelDbfs - a[i].levelDbfs;
        // From 50 ms behind the onset until the next one, 300 ms at most.
        const auto sounding = [&](std::span<const float> x, const std::vector<Onset>& all, std::size_t k) {
            const double from = all[k].timeS + 0.05;
            const double to = std::min({k + 1 < all.size() ? all[k + 1].timeS - 0.01 : from + kSoundsS, from + kSoundsS,
                                        double(x.size()) / rateHz});
            const auto at = std::size_t(from * rateHz);
            return to - from > 0.12 ? x.subspan(at, std::size_t((to - from) * rateHz)) : std::span<const float>();
        };
        auto sa = sounding(first, a, i), sb = sounding(second, b, j);
        const std::size_t both = std::min(sa.size(), sb.size());
        const bool isAtItsPitch =
            std::ranges::none_of(out.otherPitch, [&](const PitchStretch& s) { return s.holds(note.timeS); });
        if (both > 0 && isAtItsPitch)
            if (const auto tuned = centsBetween(sa.first(both), sb.first(both), rateHz, fft))
                note.cents = tuned->cents, note.centsDoubt = tuned->doubt;
        offsets.push_back(note.offsetMs), levels.push_back(note.levelDb);
        if (note.cents) cents.push_back(*note.cents);
        out.notes.push_back(note);
    }
    const auto [meanMs, sdMs] = offsetSpread(doubted(out.notes));
    out.offsetMeanMs = meanMs, out.offsetSdMs = sdMs;
    out.offsetMedianMs = median(offsets);
    tellDrift(out);
    out.levelDifferenceDb = median(levels);
    if (!cents.empty()) {
        const auto [mean, sd] = meanAndSd(cents);
        out.tuningMeanCents = mean, out.tuningSdCents = sd;
    }
    // A copy: it runs behind at one pace, as no hand plays, and its phases keep to that from note to note.
    if (!out.isUnrelated && out.notes.size() >= DoubleTake::kFewestPairs) {
        std::vector<NoteAt> notes;
        for (const NotePair& n : out.notes) notes.push_back({n.timeS, 0.001 * (out.movedMs + n.offsetMs)});
        const RunsBehind behind = runsBehind(notes);
        std::vector<double> away;
        for (const NoteAt& n : notes) away.push_back(1000.0 * std::abs(n.laterS - behind.at(n.timeS)));
        const double kept =
            median(std::move(away)) < kSteadyMs ? phasesKept(first, second, rateHz, notes, behind) : 0.0;
        out.isCopy = kept > kKept;
        if (out.isCopy) out.copySlope = behind.slope, out.copyThrough = copyThrough(first, second, kept);
    }
    // What wanders further than any hand may go at another tempo, and then nothing else can be told.
    if (!out.isCopy && ((out.isUnrelated && out.semitonesHigher == 0) || meanAndSd(offsets).second > kAdriftMs)) {
        out.tempoRatio = otherTempo(a, b, soundsA, soundsB);
        out.isUnrelated |= out.tempoRatio.has_value();
    }
    progress.at(1.0);
    return out;
}

double DoubleTake::apartMs() const { return std::max({offsetSdMs, spreadDoubtMs(), std::abs(offsetMedianMs)}); }

double DoubleTake::spreadDoubtMs() const { return core::spreadDoubtMs(doubted(notes), offsetSdMs); }

double DoubleTake::medianDoubtMs() const { return core::medianDoubtMs(doubted(notes), offsetSdMs); }

double DoubleTake::apartDoubtMs() const { return std::max(spreadDoubtMs(), medianDoubtMs()); }

std::optional<double> DoubleTake::tuningDoubtCents() const
{
    const auto n = std::ranges::count_if(notes, [](const NotePair& p) { return p.cents.has_value(); });
    return tuningSdCents && n > 1 ? std::optional(*tuningSdCents / std::sqrt(double(n))) : std::nullopt;
}

MonoHeard heardInMono(const DoubleTake& take, const DoubleLimits& limits)
{
    const double apart = take.apartMs();
    return take.isCopy || apart < limits.oneMs ? MonoHeard::Combed
           : apart <= limits.widthMs           ? MonoHeard::Thick
                                               : MonoHeard::TwoStrokes;
}

namespace {

DoubleHeard heardOf(double apartMs, const DoubleLimits& limits)
{
    return apartMs < limits.oneMs      ? DoubleHeard::One
           : apartMs <= limits.widthMs ? DoubleHeard::Width
           : apartMs <= limits.looseMs ? DoubleHeard::Loose
                                       : DoubleHeard::Flam;
}

} // namespace

DoubleHeard heardAs(const DoubleTake& take, const DoubleLimits& limits)
{
    return take.isCopy ? DoubleHeard::One : heardOf(take.apartMs(), limits);
}

DoubleBetween heardBetween(const DoubleTake& take, const DoubleLimits& limits)
{
    if (take.isCopy) return {DoubleHeard::One, DoubleHeard::One};
    const double apart = take.apartMs(), doubt = 2.0 * take.apartDoubtMs();
    return {heardOf(std::max(0.0, apart - doubt), limits), heardOf(apart + doubt, limits)};
}

} // namespace gristle::core
