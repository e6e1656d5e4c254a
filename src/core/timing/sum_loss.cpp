#include "core/timing/sum_loss.h"

#include "core/timing/cross_spectrum.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kWindowS = 0.6;

/// Cross-correlation of two sounds over small offsets, from their averaged cross spectrum.
class Meeting {
public:
    Meeting(std::span<const float> first, std::span<const float> second, double rateHz, double mostMs)
        : rate_(rateHz), spectrum_(windowFor(rateHz, mostMs))
    {
        spectrum_.add(first, second, 0);
        for (std::size_t k = 0; k < spectrum_.bins(); ++k)
            both_ += weightOf(k) * (spectrum_.first[k] + spectrum_.second[k]);
    }
    /// Twice the correlation where the second is later by an offset, over the power of both.
    double crossed(double offsetMs) const
    {
        double out = 0.0;
        const double radians = -2.0 * std::numbers::pi * 1e-3 * offsetMs * rate_ / double(spectrum_.window());
        // The phase is turned from bin to bin, and taken anew now and then.
        for (std::size_t k = 0; k < spectrum_.bins();) {
            std::complex<double> phase = std::polar(1.0, radians * double(k));
            const std::complex<double> turn = std::polar(1.0, radians);
            for (const std::size_t end = std::min(k + 64, spectrum_.bins()); k < end; ++k, phase *= turn)
                out += 2.0 * weightOf(k) * (spectrum_.cross[k] * phase).real();
        }
        return both_ > 0.0 ? out / both_ : 0.0;
    }
    double lossDb(double offsetMs) const { return -10.0 * std::log10(std::max(1e-9, 1.0 + crossed(offsetMs))); }
    /// The offset at which the sum is largest: on every sample, then between them by a golden section.
    double best(double mostMs) const
    {
        RealFft correlation(spectrum_.window());
        for (std::size_t k = 0; k < spectrum_.bins(); ++k)
            correlation.spectrum()[k] = std::complex<float>(std::conj(spectrum_.cross[k]));
        correlation.inverse();
        const auto most = std::int64_t(1e-3 * mostMs * rate_), size = std::int64_t(spectrum_.window());
        std::int64_t at = 0;
        const auto value = [&](std::int64_t lag) {
            return correlation.time()[std::size_t(lag < 0 ? lag + size : lag)];
        };
        for (std::int64_t lag = -most; lag <= most; ++lag)
            if (value(lag) > value(at)) at = lag;
        constexpr double kGolden = 0.6180339887498949;
        double low = 1e3 * double(at - 1) / rate_, high = 1e3 * double(at + 1) / rate_;
        for (int i = 0; i < 24; ++i) {
            const double a = high - kGolden * (high - low), b = low + kGolden * (high - low);
            (crossed(a) > crossed(b) ? high : low) = crossed(a) > crossed(b) ? b : a;
        }
        return 0.5 * (low + high);
    }

private:
    static std::size_t windowFor(double rateHz, double mostMs)
    {
        std::size_t out = 1024;
        while (out < std::size_t(kWindowS * rateHz) || out < std::size_t(8e-3 * mostMs * rateHz)) out *= 2;
        return out;
    }
    double weightOf(std::size_t k) const { return k == 0 || k + 1 == spectrum_.bins() ? 1.0 : 2.0; }
    double rate_;
    CrossSpectrum spectrum_;
    double both_ = 0.0;
};

double powerOf(std::span<const float> x)
{
    double out = 0.0;
    for (const float v : x) out += double(v) * double(v);
    return out;
}

} // namespace

std::vector<double> lossOverOffsets(std::span<const float> first, std::span<const float> second, double rateHz,
                                    const std::vector<double>& offsetsMs)
{
    double most = 0.0;
    for (const double ms : offsetsMs) most = std::max(most, std::abs(ms));
    const Meeting meeting(first, second, rateHz, most);
    std::vector<double> out;
    for (const double ms : offsetsMs) out.push_back(meeting.lossDb(ms));
    return out;
}

Result<SumLoss> sumLoss(const std::vector<std::span<const float>>& sounds, double rateHz, double maxMs)
{
    if (sounds.size() < 2) return Error{ErrorCode::Usage, "a sum of one signal", "name two at least"};
    SumLoss out;
    std::size_t longest = 0;
    for (const auto& x : sounds) longest = std::max(longest, x.size());
    std::vector<float> sum(longest, 0.0f);
    double apart = 0.0;
    for (const auto& x : sounds) {
        for (std::size_t i = 0; i < x.size(); ++i) sum[i] += x[i];
        apart += powerOf(x);
    }
    const double together = powerOf(sum);
    out.lossDb = 10.0 * std::log10(apart / std::max(1e-9 * apart, together));
    out.sumPower = longest > 0 ? together / double(longest) : 0.0;
    out.bestLossDb = out.lossDb;
    for (std::size_t s = 1; s < sounds.size(); ++s) {
        auto pair = alignTo(sounds[0], sounds[s], rateHz, maxMs);
        if (!pair) return pair.error();
        out.pairs.push_back(std::move(*pair));
        std::vector<float> others = sum;
        for (std::size_t i = 0; i < sounds[s].size(); ++i) others[i] -= sounds[s][i];
        std::vector<float> own(sounds[s].begin(), sounds[s].end());
        own.resize(longest, 0.0f);
        const Meeting meeting(others, own, rateHz, maxMs);
        const double offset = meeting.best(maxMs), both = powerOf(others) + powerOf(own);
        const double then = together + both * (meeting.crossed(offset) - meeting.crossed(0.0));
        const double loss = 10.0 * std::log10(apart / std::max(1e-9 * apart, then));
        if (s > 1 && loss >= out.bestLossDb) continue;
        out.best = s, out.bestOffsetMs = offset, out.bestLossDb = loss;
    }
    return out;
}

} // namespace gristle::core
