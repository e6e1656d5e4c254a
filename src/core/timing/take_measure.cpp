#include "core/timing/take_measure.h"

#include "core/measure/tuner.h"
#include "core/signal/biquad.h"
#include "core/signal/fft.h"
#include "core/signal/window.h"
#include "core/timing/strings.h"
#include "core/units/decibels.h"
#include "core/units/early_note.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kHopS = 0.01;
constexpr double kClipped = 1.0 - 0x1p-15;
constexpr double kKeeps = 0.25, kKeepShare = 0.9; // of a division; by chance half of the notes would
constexpr double kRiseDb = 9.0, kOverFloorDb = 12.0, kUnderNotesDb = -12.0, kHeardDb = -50.0;
constexpr double kBeforeOnsetS = 0.05, kBehindOnsetS = 0.08;
constexpr double kSoftDb = -12.0, kFlat = 0.25;
constexpr double kSameNoteS = 0.08;

double medianOf(std::vector<double> v)
{
    if (v.empty()) return 0.0;
    std::ranges::nth_element(v, v.begin() + long(v.size() / 2));
    return v[v.size() / 2];
}

/// Levels of hops, dBFS (AES17).
std::vector<float> levelsOf(std::span<const float> x, double rateHz)
{
    const auto hop = std::size_t(kHopS * rateHz);
    std::vector<float> out(x.size() / hop);
    for (std::size_t h = 0; h < out.size(); ++h) {
        double sum = 0.0;
        for (std::size_t i = h * hop; i < (h + 1) * hop; ++i) sum += double(x[i]) * double(x[i]);
        out[h] = float(10.0 * std::log10(2.0 * sum / double(hop) + 1e-14));
    }
    return out;
}

/// Levels of eight octaves from 80 Hz up, in each hop.
std::vector<std::array<float, 8>> octavesOf(std::span<const float> x, double rateHz)
{
    const auto hop = std::size_t(kHopS * rateHz);
    std::vector<std::array<float, 8>> out(x.size() / hop);
    for (std::size_t b = 0; b < 8; ++b) {
        const double hz = 80.0 * std::exp2(double(b));
        std::vector<float> band(x.begin(), x.end());
        if (hz < 0.45 * rateHz) {
            Biquad(highPass(hz, 0.7071, rateHz)).process(band);
            if (2.0 * hz < 0.45 * rateHz) Biquad(lowPass(2.0 * hz, 0.7071, rateHz)).process(band);
        } else {
            std::ranges::fill(band, 0.0f);
        }
        const auto levels = levelsOf(band, rateHz);
        for (std::size_t h = 0; h < out.size(); ++h) out[h][b] = levels[h];
    }
    return out;
}

/// The divisions of a quarter note that the notes keep to; 0 where none.
int divisionsOf(const std::vector<double>& quarters)
{
    if (quarters.size() < 4) return 0;
    for (const int d : {1, 2, 3, 4}) {
        std::size_t near = 0;
        for (const double q : quarters) near += std::abs(q * d - std::round(q * d)) < kKeeps;
        if (double(near) >= kKeepShare * double(quarters.size())) return d;
    }
    return 0;
}

void tellClicks(TakeMeasure& take, const BarGrid& grid)
{
    std::vector<double> quarters;
    for (const PlayedNote& n : take.notes) quarters.push_back(grid.quarterAt(n.timeS));
    take.divisions = divisionsOf(quarters);
    if (take.divisions == 0) return;
    for (std::size_t i = 0; i < quarters.size(); ++i) {
        const double nearest = std::round(quarters[i] * take.divisions) / take.divisions;
        take.notes[i].clickMs = 1000.0 * (take.notes[i].timeS - grid.secondsOfQuarter(nearest));
    }
}

/// How flat the spectrum behind an onset is from 100 Hz to 5 kHz: the geometric over the arithmetic mean of its powers,
/// 0.56 for noise (of one window), far less where strings sound.
double flatnessAt(std::span<const float> x, double rateHz, double atS)
{
    const auto length = std::size_t(0.05 * rateHz), from = std::size_t(std::max(0.0, (atS + 0.005) * rateHz));
    RealFft fft(fastFftSize(length));
    const auto window = hannWindow(length);
    std::ranges::fill(fft.time(), 0.0f);
    for (std::size_t i = 0; i < length && from + i < x.size(); ++i)
        fft.time()[i] = float(window[i] * double(x[from + i]));
    fft.forward();
    const double perHz = double(fft.size()) / rateHz;
    double logs = 0.0, sum = 0.0, n = 0.0;
    for (auto k = std::size_t(100.0 * perHz); double(k) < std::min(5000.0, 0.45 * rateHz) * perHz; ++k, n += 1.0) {
        const double power = double(std::norm(fft.spectrum()[k])) + 1e-20;
        logs += std::log(power), sum += power;
    }
    return std::exp(logs / n) / (sum / n);
}

/// Rises between the notes that are none.
std::vector<StrayNoise> noisesOf(const TakeMeasure& take, const std::vector<double>& onsetS)
{
    std::vector<StrayNoise> out;
    const auto& level = take.levelDb;
    if (level.size() < 20) return out;
    std::vector<float> sorted = level;
    const auto low = sorted.begin() + long(sorted.size() / 50); // the quietest fiftieth is what is always there
    std::ranges::nth_element(sorted, low);
    const double floor = double(*low);
    double last = -1.0;
    for (std::size_t h = 6; h + 1 < level.size(); ++h) {
        const double now = double(level[h]), before = double(*std::min_element(&level[h - 5], &level[h]));
        const double t = take.atS + double(h) * kHopS;
        if (t < take.spanFromS || t >= take.spanToS || now < before + kRiseDb || now < floor + kOverFloorDb ||
            now > kUnderNotesDb || now < kHeardDb || now < double(level[h - 1]) || now < double(level[h + 1]))
            continue;
        const auto next = std::ranges::lower_bound(onsetS, t - kBehindOnsetS);
        if (next != onsetS.end() && *next < t + kBeforeOnsetS) continue; // a note begins there
        if (t - last < 0.1) continue;
        last = t;
        out.push_back({t, now});
    }
    return out;
}

void tellPitches(TakeMeasure& take, std::span<const float> x, double rateHz, double referenceHz,
                 const std::vector<double>& onsetS, const Progress& progress)
{
    constexpr double kFromS = 0.05, kLongestS = 0.3, kShortestS = 0.2, kDoubtfulCents = 3.0;
    for (std::size_t i = 0; i < take.notes.size(); ++i) {
        if (progress.stopped()) return;
        progress.at(0.5 + 0.5 * double(i) / double(take.notes.size()));
        PlayedNote& note = take.notes[i];
        const auto next = std::ranges::upper_bound(onsetS, note.timeS + 1e-6);
        const double fromS = note.timeS + kFromS;
        const double toS = std::min(fromS + kLongestS, next == onsetS.end() ? 1e9 : *next - 0.01);
        if (toS - fromS < kShortestS) continue;
        const auto from = std::size_t((fromS - take.atS) * rateHz);
        const auto to = std::min(x.size(), std::size_t((toS - take.atS) * rateHz));
        if (to < from + std::size_t(kShortestS * rateHz)) continue;
        const auto pitch = pitchOf(x.subspan(from, to - from), rateHz);
        if (!pitch || pitch->doubtCents > kDoubtfulCents) continue;
        const NearestNote nearest = nearestNote(pitch->hz, referenceHz);
        note.cents = nearest.cents, note.name = nearest.name, note.hz = pitch->hz;
        note.stiffness = pitch->inharmonicity, note.stiffnessDoubt = pitch->inharmonicityDoubt;
    }
}

} // namespace

double TakeMeasure::levelAt(double songS) const
{
    const double hop = (songS - atS) / kHopS;
    return hop >= 0.0 && hop < double(levelDb.size()) ? double(levelDb[std::size_t(hop)]) : -120.0;
}

Result<TakeMeasure> measureTake(std::span<const float> x, double rateHz, const BarGrid& grid,
                                const TakeMeasureOptions& options, const Progress& progress)
{
    TakeMeasure out;
    out.atS = options.atS, out.endS = options.atS + double(x.size()) / rateHz;
    const bool isWhole = options.spanToS <= options.spanFromS;
    out.spanFromS = isWhole ? std::max(0.0, out.atS) : options.spanFromS;
    out.spanToS = isWhole ? out.endS : options.spanToS;
    out.spanFromS -= kEarlyNoteS, out.spanToS -= kEarlyNoteS;
    auto onsets = findOnsets(x, rateHz);
    // What is soft and sounds at all pitches alike is no note but a noise.
    std::vector<double> all;
    for (const Onset& o : onsets) all.push_back(o.levelDbfs);
    const double usual = medianOf(all);
    std::vector<StrayNoise> soft;
    std::erase_if(onsets, [&](const Onset& o) {
        const bool isNoise = o.levelDbfs < usual + kSoftDb && flatnessAt(x, rateHz, o.timeS) > kFlat;
        if (isNoise) soft.push_back({out.atS + o.timeS, -120.0});
        return isNoise;
    });
    if (progress.stopped()) return Error{ErrorCode::Cancelled, "take: stopped", ""};
    progress.at(0.4);
    std::vector<double> onsetS, levels;
    for (const Onset& o : onsets) {
        const double t = out.atS + o.timeS;
        onsetS.push_back(t);
        out.notesBefore += isWhole && t < std::min(out.spanFromS, 0.0);
        if (t < out.spanFromS || t >= out.spanToS) continue;
        PlayedNote note;
        note.timeS = t, note.levelDbfs = o.levelDbfs;
        out.notes.push_back(std::move(note));
        levels.push_back(o.levelDbfs);
    }
    if (out.notes.empty())
        return Error{ErrorCode::OutOfRange, "take: nobody plays in it", "record it again, with the guitar's volume up"};
    out.usualDbfs = medianOf(levels);
    out.levelDb = levelsOf(x, rateHz);
    for (float& l : out.levelDb) l -= float(out.usualDbfs);
    out.octavesDb = octavesOf(x, rateHz);
    double lastClip = -1.0;
    for (std::size_t i = 0; i < x.size(); ++i) {
        const double t = out.atS + double(i) / rateHz;
        if (std::abs(double(x[i])) < kClipped || t - lastClip < kHopS) continue;
        lastClip = t;
        if (t >= out.spanFromS && t < out.spanToS) out.clippedS.push_back(t);
    }
    tellClicks(out, grid);
    out.noises = noisesOf(out, onsetS);
    for (StrayNoise n : soft) {
        for (double t = n.timeS; t < n.timeS + kBehindOnsetS; t += kHopS)
            n.levelDb = std::max(n.levelDb, out.levelAt(t));
        const auto same = [&](const StrayNoise& other) { return std::abs(other.timeS - n.timeS) < 0.1; };
        if (n.timeS >= out.spanFromS && n.timeS < out.spanToS && std::ranges::none_of(out.noises, same))
            out.noises.push_back(n);
    }
    std::ranges::sort(out.noises, {}, &StrayNoise::timeS);
    tellPitches(out, x, rateHz, options.referenceHz, onsetS, progress);
    if (options.openHz) {
        tellStrings(out.notes, *options.openHz, options.capo);
        out.stringNames = stringNames(*options.openHz, options.referenceHz);
    }
    if (progress.stopped()) return Error{ErrorCode::Cancelled, "take: stopped", ""};
    return out;
}

MissedNotes missedNotes(const std::vector<const TakeMeasure*>& performances, std::size_t which)
{
    MissedNotes out;
    const TakeMeasure& own = *performances[which];
    const auto has = [](const TakeMeasure& take, double t) {
        const auto at = std::ranges::lower_bound(take.notes, t - kSameNoteS, {}, &PlayedNote::timeS);
        return at != take.notes.end() && at->timeS < t + kSameNoteS;
    };
    // Where the others have a note, a faint one is enough: two octaves that rise.
    const auto hasFaint = [](const TakeMeasure& take, double t) {
        constexpr double kRise = 4.0;
        const auto hop = [&](double s) {
            return std::size_t(std::clamp((s - take.atS) / kHopS, 0.0, double(take.octavesDb.size())));
        };
        int rising = 0;
        for (std::size_t b = 0; b < 8; ++b) {
            float before = 200.0f, behind = -200.0f;
            for (std::size_t h = hop(t - 0.08); h < hop(t); ++h) before = std::min(before, take.octavesDb[h][b]);
            for (std::size_t h = hop(t - 0.03); h < hop(t + 0.07); ++h) behind = std::max(behind, take.octavesDb[h][b]);
            rising += double(behind - before) > kRise && double(behind) > take.usualDbfs - 45.0;
        }
        return rising >= 2;
    };
    const auto covers = [](const TakeMeasure& take, double t) { return t >= take.spanFromS && t < take.spanToS; };
    /// Of the others who play there, how many have a note; none where nobody does.
    const auto share = [&](double t) -> std::optional<double> {
        std::size_t count = 0, having = 0;
        for (std::size_t i = 0; i < performances.size(); ++i) {
            if (i == which || !covers(*performances[i], t)) continue;
            ++count, having += has(*performances[i], t);
        }
        return count > 0 ? std::optional(double(having) / double(count)) : std::nullopt;
    };
    std::vector<double> all;
    for (std::size_t i = 0; i < performances.size(); ++i)
        if (i != which)
            for (const PlayedNote& n : performances[i]->notes)
                if (covers(own, n.timeS) && !has(own, n.timeS)) all.push_back(n.timeS);
    std::ranges::sort(all);
    for (std::size_t from = 0; from < all.size();) {
        std::size_t to = from;
        while (to < all.size() && all[to] - all[from] < kSameNoteS) ++to;
        const double t = all[from + (to - from) / 2];
        if (const auto others = share(t); others && *others > 0.66 && !hasFaint(own, t)) out.missedS.push_back(t);
        from = to;
    }
    for (const PlayedNote& n : own.notes)
        if (const auto others = share(n.timeS); others && *others < 0.33) out.addedS.push_back(n.timeS);
    return out;
}

} // namespace gristle::core
