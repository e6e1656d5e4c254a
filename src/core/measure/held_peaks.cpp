#include "core/measure/held_peaks.h"

#include "core/measure/clip_weights.h"
#include "core/measure/level.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

namespace gristle::core {

namespace {

constexpr double kMostS = 8.0, kHopS = 0.03;
constexpr double kLeakHz = 0.7;          // of the integral that undoes a high-pass
constexpr double kCountRateHz = 48000.0; // samples are counted as of this rate
constexpr std::array kHighPassHz{0.0, 2.0, 4.0, 7.0, 10.0, 14.0, 19.0, 25.0, 32.0};
constexpr double kRatherNone = 0.3;           // bits that a high-pass has to make the ceiling sharper by
constexpr double kAt = 0.985;                 // of the ceiling: what reaches it
constexpr double kNear = 0.02, kUnder = 0.93; // of the ceiling: half waves at it and under it

using Parts = std::vector<std::span<const float>>;

double bits(double count) { return std::log2(1.0 + count); }

double highestOf(std::span<const float> x)
{
    float most = 0.0f;
    for (const float v : x) most = std::max(most, std::abs(v));
    return double(most);
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
        for (const auto& p : parts)
            for (const float v : p) ++below_[std::min(kBins - 1, std::size_t(double(std::abs(v)) * perBin_)) + 1];
        std::partial_sum(below_.begin(), below_.end(), below_.begin());
    }
    double between(double low, double high) const { return worth_ * (below(high) - below(low)); }
    double over(double low) const { return worth_ * (below_.back() - below(low)); }

private:
    static constexpr std::size_t kBins = 2000;
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

/// A stretch, the lead before it taken off, and its integral.
class LoudStretch {
public:
    LoudStretch(const TimedSamples& of, double rateHz) : x_(of.samples), integral_(x_.size())
    {
        const double stays = 1.0 - 2.0 * std::numbers::pi * kLeakHz / rateHz, step = 2.0 * std::numbers::pi / rateHz;
        double sum = 0.0;
        for (std::size_t i = 0; i < x_.size(); ++i) integral_[i] = float(sum = stays * sum + step * double(x_[i]));
        x_ = x_.subspan(std::min(x_.size(), std::size_t(kLeadS * rateHz)));
        integral_.erase(integral_.begin(), integral_.end() - long(x_.size()));
    }
    std::span<const float> plain() const { return x_; }
    void highPassUndone(double hz, std::vector<float>& into) const
    {
        into.resize(x_.size());
        for (std::size_t i = 0; i < x_.size(); ++i) into[i] = x_[i] + float(hz) * integral_[i];
    }

private:
    std::span<const float> x_;
    std::vector<float> integral_;
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

HeldPeaks heldPeaks(std::span<const TimedSamples> loudest, double rateHz)
{
    HeldPeaks out;
    std::vector<LoudStretch> stretches;
    Parts plain, parts;
    for (const TimedSamples& s : loudest) plain.push_back(stretches.emplace_back(s, rateHz).plain());
    if (highestOf(plain) <= 0.0) return out;

    std::vector<std::vector<float>> undone(stretches.size());
    const auto undo = [&](double hz) {
        parts.clear();
        for (std::size_t i = 0; i < stretches.size(); ++i) {
            stretches[i].highPassUndone(hz, undone[i]);
            parts.push_back(undone[i]);
        }
    };
    Ceiling best;
    double bestHz = 0.0;
    for (const double hz : kHighPassHz) {
        undo(hz);
        const double top = highestOf(parts);
        const Ceiling c = ceilingOf(Levels(parts, top, rateHz), top);
        if (c.sharp > best.sharp + (bestHz == 0.0 && hz > 0.0 ? kRatherNone : 0.0)) best = c, bestHz = hz;
    }
    undo(bestHz);

    const double l = best.level;
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
    out.clues = {bits(double(at.size())),
                 bits(double(under.size())),
                 bits(likelierCut(at, under)),
                 cornerAt(at, 0.25) - cornerAt(under, 0.9),
                 cornerAt(under, 0.5),
                 std::log2((flat + 0.5) / (double(at.size()) + 1.0)),
                 std::abs(std::log2(above / below)),
                 within(0.12) - within(0.25)};
    out.chance = chanceOf(out.clues);
    return out;
}

Result<std::vector<TimedSamples>> loudestStretches(std::span<const float> blockPeaks, double rateHz,
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
    std::vector<TimedSamples> out;
    for (std::size_t i = 0, end = 0; i < order.size(); i = end) {
        for (end = i + 1; end < order.size() && order[end] == order[end - 1] + 1;) ++end;
        const auto from = std::int64_t(order[i] * LevelMeter::kBlock),
                   to = std::int64_t((order[end - 1] + 1) * LevelMeter::kBlock);
        const std::int64_t start = std::max<std::int64_t>(0, from - lead);
        auto samples = source(start, to - start);
        if (!samples) return samples.error();
        samples->insert(samples->begin(), std::size_t(lead - (from - start)), 0.0f); // before the file there is nothing
        out.push_back({double(from) / rateHz, std::move(*samples)});
    }
    return out;
}

} // namespace gristle::core
