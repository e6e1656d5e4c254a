#include "core/measure/held_peaks.h"

#include "core/measure/clip_weights.h"
#include "core/measure/level.h"
#include "core/units/decibels.h"
#include "core/units/vectorised.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstdint>
#include <numbers>
#include <numeric>

namespace gristle::core {

namespace {

constexpr double kMostS = 8.0, kHopS = 0.03;
constexpr double kLeakHz = 0.1, kLeadS = 1.5; // of the integrals that undo high-passes
constexpr double kCountRateHz = 48000.0;      // samples are counted as of this rate
constexpr double kRatherNone = 0.3;           // bits that a high-pass has to make the ceiling sharper by
constexpr double kAt = 0.985;                 // of the ceiling: what reaches it
constexpr double kNear = 0.02, kUnder = 0.93; // of the ceiling: half waves at it and under it

using Parts = std::vector<std::span<const float>>;

double bits(double count) { return std::log2(1.0 + count); }

/// By the bits, which grow as the sizes do: that goes by registers.
GRISTLE_VECTORISED
double highestOf(std::span<const float> x)
{
    std::uint32_t most = 0;
    for (const float v : x) most = std::max(most, std::bit_cast<std::uint32_t>(v) & 0x7FFFFFFFu);
    return double(std::bit_cast<float>(most));
}

double highestOf(const Parts& parts)
{
    double most = 0.0;
    for (const auto& p : parts) most = std::max(most, highestOf(p));
    return most;
}

/// How often which level is reached, to a two-thousandth of the highest.
class Levels {
public:
    Levels(const Parts& parts, double top, double rateHz)
        : perBin_(double(kBins) / top), worth_(kCountRateHz / rateHz), below_(kBins + 1, 0.0)
    {
        std::vector<std::uint32_t> counts(kBins, 0);
        std::array<std::int32_t, 1024> bins{};
        for (const auto& p : parts)
            for (std::size_t i = 0; i < p.size(); i += bins.size()) {
                const auto some = p.subspan(i, std::min(bins.size(), p.size() - i));
                binsOf(some, float(perBin_), bins.data());
                for (std::size_t k = 0; k < some.size(); ++k) ++counts[std::size_t(bins[k])];
            }
        std::partial_sum(counts.begin(), counts.end(), below_.begin() + 1);
    }
    double between(double low, double high) const { return worth_ * (below(high) - below(low)); }
    double over(double low) const { return worth_ * (below_.back() - below(low)); }

private:
    static constexpr std::size_t kBins = 2000;
    GRISTLE_VECTORISED
    static void binsOf(std::span<const float> x, float perBin, std::int32_t* into)
    {
        for (std::size_t i = 0; i < x.size(); ++i)
            into[i] = std::min(std::int32_t(kBins - 1), std::int32_t(std::abs(x[i]) * perBin));
    }
    double below(double level) const
    {
        const double bin = std::min(level * perBin_, double(kBins));
        const auto whole = std::min(kBins - 1, std::size_t(bin));
        return below_[whole] + (bin - double(whole)) * (below_[whole + 1] - below_[whole]);
    }
    double perBin_, worth_;
    std::vector<double> below_;
};

struct Ceiling {
    double sharp = -1e9, level = 0.0;
};

/// The level at which most samples crowd, beside what is under it and over it.
Ceiling ceilingOf(const Levels& levels, double top)
{
    Ceiling best;
    for (double l = 0.80 * top; l < 1.0001 * top; l += 0.002 * top) {
        const double sharp = bits(levels.between(0.99 * l, 1.004 * l)) -
                             std::log2(0.25 * levels.between(0.93 * l, 0.985 * l) + 4.0) -
                             0.5 * bits(levels.over(1.01 * l));
        if (sharp > best.sharp) best = {sharp, l};
    }
    return best;
}

/// The corners of two high-passes of the first order; 0: none.
struct HighPasses {
    double hz = 0.0, otherHz = 0.0;
    bool areNone() const { return hz == 0.0; }
};

GRISTLE_VECTORISED
void undo(const HighPasses& passes, const LoudStretch& stretch, std::vector<float>& into)
{
    const auto sum = float(passes.hz + passes.otherHz), product = float(passes.hz * passes.otherHz);
    into.resize(stretch.x.size());
    for (std::size_t i = 0; i < into.size(); ++i)
        into[i] = stretch.x[i] + sum * stretch.once[i] + product * stretch.twice[i];
}

/// The high-passes without which the ceiling is sharpest.
class Undoing {
public:
    Undoing(std::span<const LoudStretch> loudest, double rateHz)
        : loudest_(loudest), rate_(rateHz), undone_(loudest.size())
    {
        tryOut({}, 0.0);
        keepHigh();
        for (double hz = kLowestHz; hz < kHighestHz; hz *= kFine)
            tryOut({hz, 0.0}, best_.areNone() ? kRatherNone : 0.0);
        finer(&HighPasses::hz);
        // Two that lie together as high: each 1, or 3 and 1 parts of it.
        for (double hz = 2.0 * kLowestHz; hz < kHighestHz; hz *= kCoarse)
            for (const double part : {0.5, 0.25})
                tryOut({(1.0 - part) * hz, part * hz}, best_.otherHz == 0.0 ? kRatherNone : 0.0);
        if (best_.otherHz > 0.0)
            for (auto which : {&HighPasses::hz, &HighPasses::otherHz, &HighPasses::hz, &HighPasses::otherHz})
                finer(which);
        play(best_, loudest_);
    }
    const Parts& parts() const { return parts_; }
    const Ceiling& ceiling() const { return ceiling_; }

private:
    static constexpr double kLowestHz = 1.5, kHighestHz = 36.0, kFine = 1.1, kCoarse = 1.2;
    static constexpr double kMostHigher = 1.3;
    // Only the samples that can count are tried, where the corners add and multiply up to so much and the maximum stays
    // over so much of what it was; all of them elsewhere.
    static constexpr double kMostSum = 40.0, kMostProduct = 400.0, kLeastTop = 0.7;
    /// What may reach half of the maximum once high-passes within kMostSum and kMostProduct are undone.
    void keepHigh()
    {
        const auto least = float(0.5 * kLeastTop * plainTop_);
        for (const LoudStretch& from : loudest_)
            for (std::size_t i = 0; i < from.x.size(); ++i)
                if (std::abs(from.x[i]) + float(kMostSum) * std::abs(from.once[i]) +
                        float(kMostProduct) * std::abs(from.twice[i]) >=
                    least) {
                    high_.x.push_back(from.x[i]);
                    high_.once.push_back(from.once[i]), high_.twice.push_back(from.twice[i]);
                }
    }
    void play(const HighPasses& passes, std::span<const LoudStretch> what)
    {
        parts_.clear();
        for (std::size_t i = 0; i < what.size(); ++i) {
            undo(passes, what[i], undone_[i]);
            parts_.push_back(undone_[i]);
        }
    }
    void tryOut(const HighPasses& passes, double byAtLeast)
    {
        double top = 0.0;
        const bool isMild = passes.hz + passes.otherHz <= kMostSum && passes.hz * passes.otherHz <= kMostProduct;
        if (isMild && !high_.x.empty()) play(passes, {&high_, 1}), top = highestOf(parts_);
        if (top < kLeastTop * plainTop_ || plainTop_ == 0.0) play(passes, loudest_), top = highestOf(parts_);
        if (passes.areNone()) plainTop_ = top;
        if (top > kMostHigher * plainTop_) return; // that was no high-pass: what wanders grows without end
        const Ceiling c = ceilingOf(Levels(parts_, top, rate_), top);
        if (c.sharp > ceiling_.sharp + byAtLeast) ceiling_ = c, best_ = passes;
    }
    void finer(double HighPasses::*which)
    {
        for (const double by : {1.1, 1.04, 1.02, 1.01})
            for (const double turn : {by, 1.0 / by}) {
                HighPasses these = best_;
                these.*which *= turn;
                if (!best_.areNone()) tryOut(these, 0.0);
            }
    }
    std::span<const LoudStretch> loudest_;
    double rate_;
    LoudStretch high_; ///< the samples that can count
    std::vector<std::vector<float>> undone_;
    Parts parts_;
    double plainTop_ = 0.0;
    Ceiling ceiling_;
    HighPasses best_;
};

/// What lies between two crossings of zero.
struct HalfWave {
    double height = 0.0;
    double corner = 0.0; ///< its width 1 % under its height, of that 12 % under it: of a parabola 0.29, cut off 1
    double flat = 0.0;   ///< its width 4 % under its height, of that half way up
};

/// For how many samples it is above a level, by straight lines between them.
double widthOver(std::span<const float> wave, double level)
{
    double out = 0.0, before = 0.0;
    const auto step = [&](double here) {
        const double high = std::max(before, here), low = std::min(before, here);
        if (high >= level) out += low >= level ? 1.0 : (high - level) / (high - low);
        before = here;
    };
    for (const float v : wave) step(std::abs(double(v)));
    step(0.0);
    return out;
}

/// Those that are higher than `least` and last long enough to have a shape.
std::vector<HalfWave> halfWavesOf(const Parts& parts, double rateHz, double least)
{
    constexpr double kShortestS = 6.0 / 48000.0; // half way up
    std::vector<HalfWave> out;
    for (const auto& x : parts) {
        std::size_t from = 0;
        for (std::size_t i = 1; i <= x.size(); ++i) {
            if (i < x.size() && std::signbit(x[i]) == std::signbit(x[i - 1])) continue;
            const auto wave = x.subspan(from, i - from);
            from = i;
            if (double(wave.size()) < kShortestS * rateHz) continue;
            const double high = highestOf(wave);
            if (high <= least) continue;
            const auto over = [&](double share) { return widthOver(wave, share * high); };
            if (const double half = over(0.5); half > kShortestS * rateHz)
                out.push_back({high, over(0.99) / over(0.88), over(0.96) / half});
        }
    }
    return out;
}

/// How much likelier it is that those at the ceiling have corners of their own than that they have them as often as the
/// others do: the ratio of two binomial likelihoods, its logarithm. Source: Wilks 1938, The large-sample distribution
/// of the likelihood ratio.
double likelierCut(const std::vector<HalfWave>& at, const std::vector<HalfWave>& under)
{
    constexpr double kCut = 0.5, kUsual = 0.03, kUsualCounts = 10.0;
    const auto cut = [](const std::vector<HalfWave>& of) {
        return double(std::ranges::count_if(of, [](const HalfWave& w) { return w.corner > kCut; }));
    };
    const double n = double(at.size()), of = cut(at), others = double(under.size()) + kUsualCounts;
    const double usual = std::min(0.999, (cut(under) + kUsual * kUsualCounts) / others), here = n > 0.0 ? of / n : 0.0;
    if (here <= usual) return 0.0;
    return of * std::log(here / usual) + (of < n ? (n - of) * std::log((1.0 - here) / (1.0 - usual)) : 0.0);
}

/// A share of them is less sharp at their corners; like a parabola where there are none.
double cornerAt(const std::vector<HalfWave>& of, double share)
{
    if (of.empty()) return 0.29;
    std::vector<double> v;
    for (const HalfWave& w : of) v.push_back(w.corner);
    const auto at = std::min(v.size() - 1, std::size_t(share * double(v.size())));
    std::ranges::nth_element(v, v.begin() + long(at));
    return v[at];
}

double chanceOf(const std::array<double, kPeakClues>& clues)
{
    return 1.0 / (1.0 + std::exp(-std::inner_product(clues.begin(), clues.end(), kClipWeights.begin(), kClipBias)));
}

} // namespace

HeldPeaks heldPeaks(std::span<const LoudStretch> loudest, double rateHz)
{
    HeldPeaks out;
    Parts plain;
    for (const LoudStretch& s : loudest) plain.push_back(s.x);
    if (highestOf(plain) <= 0.0) return out;

    const Undoing undoing(loudest, rateHz);
    const Parts& parts = undoing.parts();
    const double l = undoing.ceiling().level;
    const auto hop = std::size_t(kHopS * rateHz);
    double squares = 0.0, frames = 0.0, above = 3.0, below = 3.0, hops = 0.0;
    for (std::size_t p = 0; p < parts.size(); ++p) {
        for (const float v : parts[p]) {
            squares += double(v) * double(v), ++frames;
            above += double(v) > kAt * l, below += double(v) < -kAt * l;
        }
        for (std::size_t i = 0; i < parts[p].size(); i += hop, ++hops)
            if (highestOf(parts[p].subspan(i, std::min(hop, parts[p].size() - i))) > kAt * l && ++out.places == 1)
                out.firstS = loudest[p].startS + double(i) / rateHz;
    }
    out.placesShare = double(out.places) / hops;
    out.ceilingDbfs = amplitudeToDb(l);
    out.crestDb = out.ceilingDbfs - powerToDb(squares / frames);

    std::vector<HalfWave> at, under;
    for (const HalfWave& w : halfWavesOf(parts, rateHz, 0.5 * l))
        if (std::abs(w.height / l - 1.0) < kNear)
            at.push_back(w);
        else if (w.height < kUnder * l)
            under.push_back(w);
    const double flat = double(std::ranges::count_if(at, [](const HalfWave& w) { return w.flat > 0.45; }));
    const Levels levels(parts, highestOf(parts), rateHz);
    const auto within = [&](double share) { return bits(levels.between((1.0 - share) * l, 1.01 * l)); };
    out.corner = cornerAt(at, 0.25);
    out.clues = {bits(double(at.size())),
                 bits(double(under.size())),
                 bits(likelierCut(at, under)),
                 out.corner - cornerAt(under, 0.9),
                 cornerAt(under, 0.5),
                 std::log2((flat + 0.5) / (double(at.size()) + 1.0)),
                 std::abs(std::log2(above / below)),
                 within(0.12) - within(0.25)};
    out.chance = chanceOf(out.clues);
    return out;
}

Result<std::vector<LoudStretch>> loudestStretches(std::span<const float> blockPeaks, double rateHz,
                                                  const SampleSource& source)
{
    std::vector<std::size_t> order(blockPeaks.size());
    std::iota(order.begin(), order.end(), 0);
    if (const auto most = std::size_t(kMostS * rateHz / double(LevelMeter::kBlock)); order.size() > most) {
        std::ranges::nth_element(order, order.begin() + long(most),
                                 [&](std::size_t a, std::size_t b) { return blockPeaks[a] > blockPeaks[b]; });
        order.resize(most);
        std::ranges::sort(order);
    }
    const auto lead = std::int64_t(kLeadS * rateHz);
    const double stays = 1.0 - 2.0 * std::numbers::pi * kLeakHz / rateHz, perSample = 2.0 * std::numbers::pi / rateHz;
    std::vector<LoudStretch> out;
    for (std::size_t i = 0, end = 0; i < order.size(); i = end) {
        for (end = i + 1; end < order.size() && order[end] == order[end - 1] + 1;) ++end;
        const auto from = std::int64_t(order[i] * LevelMeter::kBlock),
                   to = std::int64_t((order[end - 1] + 1) * LevelMeter::kBlock);
        const std::int64_t start = std::max<std::int64_t>(0, from - lead); // before the file there is nothing
        const auto samples = source(start, to - start);
        if (!samples) return samples.error();
        // What a converter adds behind a high-pass is no part of what that took away.
        const double mean =
            std::accumulate(samples->begin(), samples->end(), 0.0) / double(std::max<std::size_t>(1, samples->size()));
        double once = 0.0, twice = 0.0;
        const auto step = [&](float v) {
            once = stays * once + perSample * (double(v) - mean), twice = stays * twice + perSample * once;
        };
        const std::span<const float> before = std::span(*samples).first(std::size_t(from - start));
        for (const float v : before) step(v);
        LoudStretch stretch;
        stretch.startS = double(from) / rateHz;
        stretch.x.assign(samples->begin() + (from - start), samples->end());
        stretch.once.resize(stretch.x.size()), stretch.twice.resize(stretch.x.size());
        for (std::size_t k = 0; k < stretch.x.size(); ++k) {
            step(stretch.x[k]);
            stretch.once[k] = float(once), stretch.twice[k] = float(twice);
        }
        out.push_back(std::move(stretch));
    }
    return out;
}

} // namespace gristle::core
