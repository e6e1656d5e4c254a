#include "core/measure/activity.h"

#include "core/audio/block_stats.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr std::size_t kShortHops = 5; // 50 ms: more than two periods of mains
constexpr std::size_t kRestHops = 30; // contract: a rest lasts 0.3 s
constexpr double kHalvesDb = 1.2;     // pink noise over 150 ms moves by 0.5 dB (1 sd); a note of 10 dB/s falls by 1.5
constexpr double kShortSpreadDb = 6.0;
constexpr double kFloorSpreadDb = 2.5;
constexpr double kFallDb = 2.0;
constexpr double kAboveFloorDb = 10.0;
constexpr double kBelowLoudDb = 30.0;

double ratio(double db) { return std::pow(10.0, db / 10.0); }

/// Running sums, so that any window's mean is one subtraction.
std::vector<double> running(const std::vector<double>& x)
{
    std::vector<double> sums(x.size() + 1, 0.0);
    for (std::size_t i = 0; i < x.size(); ++i) sums[i + 1] = sums[i] + x[i];
    return sums;
}

double meanOf(const std::vector<double>& sums, std::size_t first, std::size_t count)
{
    return std::max(0.0, sums[first + count] - sums[first]) / double(count);
}

bool isSteady(const std::vector<double>& powers, const std::vector<double>& sums, std::size_t first)
{
    const double a = meanOf(sums, first, kRestHops / 2);
    const double b = meanOf(sums, first + kRestHops / 2, kRestHops / 2);
    if (!(a > 0.0) || !(b > 0.0) || std::abs(10.0 * std::log10(a / b)) > kHalvesDb) return false;
    double low = meanOf(sums, first, kShortHops), high = low;
    for (std::size_t i = first; i + kShortHops <= first + kRestHops; ++i) {
        if (!(powers[i] > 0.0)) return false;
        const double m = meanOf(sums, i, kShortHops);
        low = std::min(low, m);
        high = std::max(high, m);
    }
    return high <= low * ratio(kShortSpreadDb);
}

/// Fall of the level over the stretch in dB, by a straight line through the 50 ms levels.
double fallOf(const std::vector<double>& sums, const Stretch& s)
{
    const std::size_t n = s.count / kShortHops;
    double sx = 0, sy = 0, sxx = 0, sxy = 0;
    for (std::size_t k = 0; k < n; ++k) {
        const double y = 10.0 * std::log10(meanOf(sums, s.first + k * kShortHops, kShortHops));
        const double x = double(k);
        sx += x, sy += y, sxx += x * x, sxy += x * y;
    }
    const double slope = (double(n) * sxy - sx * sy) / (double(n) * sxx - sx * sx);
    return -slope * double(n);
}

} // namespace

std::int64_t HopTrack::hopStart(std::size_t hop) const noexcept { return std::llround(double(hop) * rateHz_ * kHopS); }

void HopTrack::push(std::span<const float> mono)
{
    while (!mono.empty()) {
        const std::int64_t end = hopEnd();
        const auto take = static_cast<std::size_t>(std::min<std::int64_t>(std::int64_t(mono.size()), end - frames_));
        const Sums sums = sumsOf(mono.first(take));
        sum_ += sums.sum;
        squares_ += sums.squares;
        frames_ += std::int64_t(take);
        mono = mono.subspan(take);
        if (frames_ == end) {
            lengths_.push_back(static_cast<float>(end - hopStart(sums_.size())));
            sums_.push_back(std::exchange(sum_, 0.0));
            squaresOf_.push_back(std::exchange(squares_, 0.0));
        }
    }
}

void HopTrack::finish()
{
    const std::int64_t held = frames_ - hopStart(sums_.size());
    if (double(held) < 0.5 * kHopS * rateHz_) return;
    lengths_.push_back(static_cast<float>(held));
    sums_.push_back(std::exchange(sum_, 0.0));
    squaresOf_.push_back(std::exchange(squares_, 0.0));
}

std::vector<double> HopTrack::powers() const
{
    // The offset is the mean of half a second around the hop, each hop weighted by the inverse of its own variance:
    // beside loud playing the quiet hops say where the middle is.
    constexpr std::size_t kDcHops = 25;
    constexpr double kLeastVariance = 1e-14;
    std::vector<double> weights(sums_.size() + 1, 0.0), weighted(sums_.size() + 1, 0.0);
    for (std::size_t i = 0; i < sums_.size(); ++i) {
        const double n = double(lengths_[i]), mean = sums_[i] / n;
        const double variance = std::max(0.0, squaresOf_[i] / n - mean * mean) + kLeastVariance;
        const double weight = squaresOf_[i] == 0.0 ? 0.0 : 1.0 / variance;
        weights[i + 1] = weights[i] + weight;
        weighted[i + 1] = weighted[i] + weight * mean;
    }
    std::vector<double> out(sums_.size());
    for (std::size_t i = 0; i < out.size(); ++i) {
        if (squaresOf_[i] == 0.0) continue; // digital silence stays exactly 0, also beside an offset
        const std::size_t from = i > kDcHops ? i - kDcHops : 0, to = std::min(i + kDcHops + 1, out.size());
        const double dc = (weighted[to] - weighted[from]) / (weights[to] - weights[from]);
        const double n = double(lengths_[i]);
        out[i] = std::max(0.0, squaresOf_[i] / n - 2.0 * dc * sums_[i] / n + dc * dc);
    }
    return out;
}

double HopTrack::powerWithoutDc(std::size_t first, std::size_t count) const
{
    double n = 0.0, sum = 0.0, squares = 0.0;
    for (std::size_t i = first; i < first + count; ++i) {
        n += double(lengths_[i]);
        sum += sums_[i];
        squares += squaresOf_[i];
    }
    return n > 0.0 ? std::max(0.0, squares / n - (sum / n) * (sum / n)) : 0.0;
}

std::vector<Stretch> findRests(const std::vector<double>& powers)
{
    std::vector<Stretch> rests;
    if (powers.size() < kRestHops) return rests;
    const auto sums = running(powers);
    const std::size_t windows = powers.size() - kRestHops + 1;
    std::vector<bool> steady(windows);
    double floor = 0.0;
    for (std::size_t i = 0; i < windows; ++i) {
        steady[i] = isSteady(powers, sums, i);
        const double mean = meanOf(sums, i, kRestHops);
        if (steady[i] && (floor == 0.0 || mean < floor)) floor = mean;
    }
    if (floor == 0.0) return rests;
    for (std::size_t i = 0; i < windows; ++i) {
        if (!steady[i] || meanOf(sums, i, kRestHops) > floor * ratio(kFloorSpreadDb)) continue;
        if (!rests.empty() && i <= rests.back().first + rests.back().count)
            rests.back().count = i + kRestHops - rests.back().first;
        else
            rests.push_back({i, kRestHops});
    }
    std::erase_if(rests, [&](const Stretch& s) { return fallOf(sums, s) > kFallDb; });
    return rests;
}

std::vector<bool> findPlaying(const std::vector<double>& powers, std::optional<double> floorPower)
{
    std::vector<bool> playing(powers.size(), false);
    const auto sums = running(powers);
    std::vector<double> levels(powers.size());
    for (std::size_t i = 0; i < powers.size(); ++i) {
        const std::size_t first = i >= kShortHops / 2 ? i - kShortHops / 2 : 0;
        levels[i] = meanOf(sums, first, std::min(kShortHops, powers.size() - first));
    }
    std::vector<double> sorted;
    for (const double l : levels)
        if (l > 0.0) sorted.push_back(l);
    if (sorted.empty()) return playing;
    const auto loud = sorted.begin() + long(double(sorted.size() - 1) * 0.95);
    std::ranges::nth_element(sorted, loud);
    double threshold = *loud * ratio(-kBelowLoudDb);
    if (floorPower) threshold = std::max(threshold, *floorPower * ratio(kAboveFloorDb));
    for (std::size_t i = 0; i < playing.size(); ++i) playing[i] = levels[i] > threshold;
    return playing;
}

} // namespace gristle::core
