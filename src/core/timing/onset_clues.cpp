#include "core/timing/onset_clues.h"

#include "core/timing/onset_rise.h"
#include "core/timing/onset_weights.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr float kLeastRise = 0.02f; // log10 of power, on the mean of all bands
constexpr double kApartS = 0.020;
constexpr double kAroundS = 0.12;
constexpr double kLeastRateHz = 2000.0, kLeastS = 0.1;

/// Mean squares of stretches around a place, dB.
class Around {
public:
    Around(std::span<const float> x, double rateHz, double atS) : x_(x), rateHz_(rateHz), atS_(atS) {}
    double dB(double fromS, double toS) const
    {
        const auto clamp = [&](double s) {
            return std::size_t(std::clamp((atS_ + s) * rateHz_, 0.0, double(x_.size())));
        };
        double sum = 0.0;
        for (std::size_t i = clamp(fromS); i < clamp(toS); ++i) sum += double(x_[i]) * double(x_[i]);
        return 10.0 * std::log10(sum / ((toS - fromS) * rateHz_) + 1e-13);
    }

private:
    std::span<const float> x_;
    double rateHz_, atS_;
};

double median(std::span<const float> of, std::vector<float>& into)
{
    into.assign(of.begin(), of.end());
    std::ranges::nth_element(into, into.begin() + long(into.size() / 2));
    return double(into[into.size() / 2]);
}

/// The strongest rise within kAroundS on one side of a candidate.
struct Neighbour {
    double rise = 0.0, awayS = 0.2;
};

} // namespace

std::vector<OnsetCandidate> onsetCandidates(std::span<const float> x, double rateHz)
{
    if (rateHz < kLeastRateHz || x.size() < std::size_t(kLeastS * rateHz)) return {};
    const OnsetRise rise = onsetRise(x, rateHz);
    const auto in = [&](double s) { return std::size_t(std::lround(s / rise.hopS)); };
    const std::size_t apart = in(kApartS), around = in(kAroundS), frames = rise.frames();
    const double loudestDb = 10.0 * std::log10(rise.loudest + 1e-13);
    const auto part = [&](const std::vector<float>& of, std::size_t from, std::size_t to) {
        return std::span(of).subspan(from, std::min(to, frames) - from);
    };
    const auto logOf = [](double v) { return std::log2(v + 0.001); };
    std::vector<OnsetCandidate> out;
    std::vector<double> rises;
    std::vector<float> scratch;
    for (std::size_t f = 4; f + 1 < frames; ++f) {
        const float here = rise.short12[f];
        if (here < kLeastRise ||
            here < *std::ranges::max_element(part(rise.short12, f - std::min(f, apart), f + apart + 1)))
            continue;
        const OnsetPlace place = onsetPlace(x, rateHz, (double(f) - 1.5) * rise.hopS);
        const Around at(x, rateHz, place.timeS);
        const auto slow = part(rise.long32, f - 2, f + 9);
        const auto most = std::ranges::max_element(slow);
        const std::size_t slowest = f - 2 + std::size_t(most - slow.begin());
        const auto strongest = [&](const std::vector<float>& of, double overS) {
            return logOf(double(*std::ranges::max_element(part(of, f, f + in(overS)))));
        };
        out.push_back(
            {place,
             {place.sharpDb, at.dB(0.002, 0.032) - at.dB(-0.025, -0.003), at.dB(0.005, 0.065) - at.dB(-0.065, -0.005),
              at.dB(0.002, 0.062) - loudestDb, strongest(rise.short24, 0.024), strongest(rise.short40, 0.040),
              logOf(double(*most)), logOf(median(part(rise.long32, f - std::min(f, around), f + around + 1), scratch)),
              double(rise.longShare[slowest]), at.dB(0.002, 0.012) - at.dB(-0.012, -0.002),
              at.dB(0.030, 0.090) - at.dB(-0.005, 0.025)}});
        rises.push_back(double(here));
    }
    if (out.empty()) return out;
    auto sorted = rises;
    std::ranges::sort(sorted);
    const double strong = sorted[sorted.size() * 9 / 10];
    for (std::size_t i = 0; i < out.size(); ++i) {
        Neighbour before, after;
        const auto away = [&](std::size_t j) { return std::abs(out[j].place.timeS - out[i].place.timeS); };
        for (std::size_t j = i; j-- > 0 && away(j) < kAroundS;)
            if (rises[j] > before.rise) before = {rises[j], away(j)};
        for (std::size_t j = i + 1; j < out.size() && away(j) < kAroundS; ++j)
            if (rises[j] > after.rise) after = {rises[j], away(j)};
        auto& clues = out[i].clues;
        clues[11] = std::log2((before.rise + 0.01) / rises[i]);
        clues[12] = std::log2((after.rise + 0.01) / rises[i]);
        clues[13] = after.awayS;
        clues[14] = std::log2(rises[i] / strong);
    }
    return out;
}

double chanceOfNote(const OnsetClues& clues) { return chanceOf(kOnsetBias, kOnsetWeights, clues); }

} // namespace gristle::core
