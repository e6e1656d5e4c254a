#include "core/timing/alignment.h"

#include "core/signal/window.h"
#include "core/timing/cross_spectrum.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <optional>

namespace gristle::core {

namespace {

constexpr double kPi = std::numbers::pi;
constexpr double kSoundMS = 343.0;
constexpr double kLowHz = 50.0, kHighHz = 16000.0; // where guitars and microphones have something to say
constexpr double kSilent = 1e-5;

using Complex = std::complex<double>;

double rms(std::span<const float> x)
{
    double sum = 0.0;
    for (const float v : x) sum += double(v) * double(v);
    return x.empty() ? 0.0 : std::sqrt(sum / double(x.size()));
}

/// 1 within a band, with soft edges of a third of an octave.
double inBand(double hz, double low, double high)
{
    if (hz <= 0.0) return 0.0;
    const auto edge = [](double octaves) { return std::clamp(0.5 + 1.5 * octaves, 0.0, 1.0); };
    return edge(std::log2(hz / low)) * edge(std::log2(high / hz));
}

/// What a pair of spectra has to say about delays.
class Pair {
public:
    Pair(const CrossSpectrum& spectrum, double rateHz)
        : s(spectrum), rate(rateHz), coherence(s.coherence(1.0 / 48.0)), high(std::min(kHighHz, 0.42 * rateHz))
    {}
    double hzAt(std::size_t k) const { return double(k) * rate / double(s.window()); }
    double radians(std::size_t k) const { return 2.0 * kPi * double(k) / double(s.window()); } ///< for each sample

    const CrossSpectrum& s;
    double rate;
    std::vector<double> coherence;
    double high;
};

/// Of a correlation over lags from -most to most, the first peak of either sign that is `part` as high as the highest.
std::int64_t firstPeak(RealFft& correlation, std::int64_t most, double part)
{
    const auto x = correlation.time();
    const auto at = [&](std::int64_t lag) {
        return std::abs(x[std::size_t(lag < 0 ? lag + std::int64_t(x.size()) : lag)]);
    };
    float highest = 0.0f;
    for (std::int64_t lag = -most; lag <= most; ++lag) highest = std::max(highest, at(lag));
    for (std::int64_t lag = -most; lag <= most; ++lag) {
        if (double(at(lag)) < part * double(highest)) continue;
        while (lag < most && at(lag + 1) > at(lag)) ++lag;
        return lag;
    }
    return 0;
}

/// Means over bins within a third of an octave of each.
std::vector<double> smoothed(const std::vector<double>& x)
{
    constexpr double kAround = 1.0 / 6.0;
    std::vector<double> sums(x.size() + 1), out(x.size());
    for (std::size_t k = 0; k < x.size(); ++k) sums[k + 1] = sums[k] + x[k];
    for (std::size_t k = 0; k < x.size(); ++k) {
        const auto half = std::max<std::size_t>(2, std::size_t(kAround * double(k)));
        const std::size_t from = k > half ? k - half : 0, to = std::min(x.size(), k + half + 1);
        out[k] = (sums[to] - sums[from]) / double(to - from);
    }
    return out;
}

/// What makes spectra white, but for gaps between partials, where nothing is played.
std::vector<double> whitening(const CrossSpectrum& s, double rate, double high)
{
    constexpr double kGap = 1e-2; // of the power about
    std::vector<double> out(s.bins());
    for (std::size_t k = 0; k < s.bins(); ++k) out[k] = std::sqrt(s.first[k] * s.second[k]);
    const auto about = smoothed(out);
    for (std::size_t k = 0; k < s.bins(); ++k) {
        const double power = out[k] + kGap * about[k];
        out[k] = power > 0.0 ? inBand(double(k) * rate / double(s.window()), kLowHz, high) / power : 0.0;
    }
    return out;
}

void correlate(const CrossSpectrum& s, const std::vector<double>& weights, RealFft& out)
{
    for (std::size_t k = 0; k < s.bins(); ++k) out.spectrum()[k] = std::complex<float>(weights[k] * s.cross[k]);
    out.inverse();
}

/// The phase that a minimum-phase filter with the ratio of both magnitudes has, by the real cepstrum.
std::vector<double> leastPhase(const Pair& pair)
{
    const CrossSpectrum& s = pair.s;
    constexpr double kAround = 1.0 / 12.0, kKnown = 0.3;
    std::vector<double> logs(s.bins());
    double held = 0.0;
    bool isHeld = false;
    std::vector<double> a(s.bins() + 1), c(s.bins() + 1);
    for (std::size_t k = 0; k < s.bins(); ++k) {
        a[k + 1] = a[k] + s.first[k];
        c[k + 1] = c[k] + s.second[k] * pair.coherence[k]; // what of the second comes from the first
    }
    std::size_t firstKnown = s.bins();
    for (std::size_t k = 0; k < s.bins(); ++k) {
        const auto half = std::max<std::size_t>(1, std::size_t(kAround * double(k)));
        const std::size_t from = k > half ? k - half : 0, to = std::min(s.bins(), k + half + 1);
        const bool isKnown =
            pair.coherence[k] > kKnown && pair.hzAt(k) > kLowHz && pair.hzAt(k) < pair.high && a[to] > a[from];
        if (isKnown) {
            held = 0.5 * std::log(std::max(1e-12, (c[to] - c[from]) / (a[to] - a[from])));
            if (!isHeld) firstKnown = k, isHeld = true;
        }
        logs[k] = held;
    }
    for (std::size_t k = 0; k < firstKnown && isHeld; ++k) logs[k] = logs[firstKnown];
    RealFft fft(s.window());
    for (std::size_t k = 0; k < s.bins(); ++k) fft.spectrum()[k] = float(logs[k]);
    fft.inverse();
    const std::size_t n = s.window();
    for (std::size_t i = 0; i < n; ++i)
        fft.time()[i] *= (i == 0 || i == n / 2 ? 1.0f : i < n / 2 ? 2.0f : 0.0f) / float(n);
    fft.forward();
    std::vector<double> out(s.bins());
    for (std::size_t k = 0; k < s.bins(); ++k) out[k] = double(fft.spectrum()[k].imag());
    return out;
}

struct Found {
    double delay; ///< samples, besides the lag that the spectra were taken with
    double sign;  ///< -1: inverted
};

/// What each frequency says of the delay: how much, and the phase that it has besides.
struct Say {
    std::vector<double> weights, besides;
};

/// Where the weighted sum of unit phasors, turned back by a delay, is largest, near a first guess: Newton's method.
Found steepest(const Pair& pair, const std::vector<double>& weights, const std::vector<double>& phases, double delay)
{
    constexpr int kRounds = 8;
    double sign = 1.0;
    for (int round = 0; round < kRounds; ++round) {
        double value = 0.0, slope = 0.0, bend = 0.0;
        for (std::size_t k = 0; k < weights.size(); ++k) {
            if (weights[k] <= 0.0) continue;
            const double w = pair.radians(k), angle = phases[k] + w * delay, c = std::cos(angle);
            value += weights[k] * c;
            slope -= weights[k] * w * std::sin(angle);
            bend -= weights[k] * w * w * c;
        }
        sign = value < 0.0 ? -1.0 : 1.0;
        if (sign * bend >= 0.0) break;
        const double step = std::clamp(-slope / bend, -0.5, 0.5);
        delay += step;
        if (std::abs(step) < 1e-9) break;
    }
    return {delay, sign};
}

/// Sums over thirds of an octave.
struct Third {
    double hz = 0.0, first = 0.0, second = 0.0, coherent = 0.0; ///< coherent: what of the second comes from the first
    Complex cross = 0.0;
};

/// @param delay  that is taken out of the cross spectrum
std::vector<Third> thirdsOf(const Pair& pair, double delay)
{
    std::vector<Third> out;
    std::size_t k = 1;
    for (double hz = 50.0; hz < 0.45 * pair.rate; hz *= std::exp2(1.0 / 3.0)) {
        while (k < pair.s.bins() && pair.hzAt(k) < hz * std::exp2(-1.0 / 6.0)) ++k;
        Third& third = out.emplace_back();
        third.hz = hz;
        for (; k < pair.s.bins() && pair.hzAt(k) < hz * std::exp2(1.0 / 6.0); ++k) {
            third.first += pair.s.first[k];
            third.second += pair.s.second[k];
            third.coherent += pair.s.second[k] * pair.coherence[k];
            third.cross += pair.s.cross[k] * std::polar(1.0, pair.radians(k) * delay);
        }
    }
    return out;
}

/// Where both have the same response, the maximum-likelihood estimate; the noise is taken to be smooth over frequency.
Found alike(const Pair& pair, double gain)
{
    constexpr double kAwayS = 0.001;
    constexpr int kRounds = 3;
    const CrossSpectrum& s = pair.s;
    std::vector<double> weights = whitening(s, pair.rate, pair.high), phases(s.bins()), off(s.bins());
    RealFft correlation(s.window());
    correlate(s, weights, correlation);
    const auto peak = firstPeak(correlation, std::llround(kAwayS * pair.rate), 0.9);
    for (std::size_t k = 0; k < s.bins(); ++k) {
        weights[k] *= std::abs(s.cross[k]);
        phases[k] = std::arg(s.cross[k]);
    }
    Found found = steepest(pair, weights, phases, double(peak));
    for (int round = 1; round < kRounds; ++round) {
        // What is left of the difference is the noise of both.
        for (std::size_t k = 0; k < s.bins(); ++k) {
            const double met = found.sign * (s.cross[k] * std::polar(1.0, pair.radians(k) * found.delay)).real();
            off[k] = std::max(0.0, gain * s.first[k] + s.second[k] / gain - 2.0 * met);
        }
        const auto left = smoothed(off);
        for (std::size_t k = 0; k < s.bins(); ++k) {
            const double signal = std::abs(s.cross[k]), noise = 0.5 * left[k] + 1e-12 * signal;
            weights[k] = signal > 0.0 ? inBand(pair.hzAt(k), kLowHz, pair.high) * signal * signal /
                                            (noise * (2.0 * signal + noise))
                                      : 0.0;
        }
        found = steepest(pair, weights, phases, found.delay);
    }
    return found;
}

/// The same where it turns out that both have one response, as far as noise lets it be told.
std::optional<Found> ifAlike(const Pair& pair)
{
    constexpr double kAlikeDb = 0.5, kKnown = 0.5, kLeastShare = 1e-3, kAlikeRadians = 0.25;
    const auto isKnown = [](const Third& t) { return t.coherent > kKnown * t.second && t.coherent > 0.0; };
    double all = 0.0, first = 0.0, second = 0.0;
    const auto thirds = thirdsOf(pair, 0.0);
    for (const Third& t : thirds) {
        all += t.first;
        if (isKnown(t)) first += t.first, second += t.second;
    }
    if (first <= 0.0) return std::nullopt;
    const double gain = std::sqrt(second / first);
    for (const Third& t : thirds) {
        if (!isKnown(t) || t.first < kLeastShare * all) continue;
        const double offDb = 10.0 * std::log10(t.second / t.first) - 20.0 * std::log10(gain),
                     byNoiseDb = 10.0 * std::log10(t.second / t.coherent);
        if (std::abs(offDb) > kAlikeDb + byNoiseDb) return std::nullopt;
    }
    const Found found = alike(pair, gain);
    for (const Third& t : thirdsOf(pair, found.delay))
        if (isKnown(t) && t.first >= kLeastShare * all &&
            std::abs(std::arg(found.sign * t.cross)) > kAlikeRadians + std::sqrt(1.0 - t.coherent / t.second))
            return std::nullopt;
    return found;
}

/// By how much of the second comes from the first; no frequency says much more than another, as what an amplifier and
/// a microphone do to the phase is known to about a radian only.
Say sayOfUnlike(const Pair& pair)
{
    constexpr double kLeastCoherence = 0.1, kMost = 1.0, kFirstHz = 150.0, kLastHz = 8000.0;
    Say out{std::vector<double>(pair.s.bins()), leastPhase(pair)};
    for (std::size_t k = 0; k < out.weights.size(); ++k)
        if (const double c = pair.coherence[k]; c >= kLeastCoherence)
            out.weights[k] = inBand(pair.hzAt(k), kFirstHz, std::min(kLastHz, pair.high)) *
                             std::min(kMost, c / std::max(1e-9, 1.0 - c));
    return out;
}

Found unlike(const Pair& pair, const Say& say)
{
    constexpr double kAwayS = 0.003;
    std::vector<double> phases(pair.s.bins());
    const auto& weights = say.weights;
    RealFft correlation(pair.s.window());
    for (std::size_t k = 0; k < weights.size(); ++k) {
        phases[k] = std::arg(pair.s.cross[k]) - say.besides[k];
        correlation.spectrum()[k] = std::complex<float>(std::polar(weights[k], phases[k]));
    }
    correlation.inverse();
    const auto peak = firstPeak(correlation, std::llround(kAwayS * pair.rate), 0.7);
    return steepest(pair, weights, phases, double(peak));
}

double lossDb(double both, double crossed) { return -10.0 * std::log10(std::max(1e-9, 1.0 + 2.0 * crossed / both)); }

/// How the second, moved by a delay and inverted, meets the first in each third of an octave, and over all.
void meet(const Pair& pair, const Found& found, Alignment& out)
{
    double all = 0.0, crossed = 0.0, most = 0.0;
    const auto thirds = thirdsOf(pair, found.delay);
    for (const Third& t : thirds) all += t.first + t.second;
    for (const Third& t : thirds) {
        const double both = t.first + t.second;
        if (both <= 0.0) continue;
        const Complex cross = found.sign * t.cross;
        crossed += cross.real();
        most += std::abs(cross);
        out.bands.push_back({t.hz, both / all, t.first * t.second > 0.0 ? std::norm(cross) / (t.first * t.second) : 0.0,
                             std::arg(cross) * 180.0 / kPi, 0.0, lossDb(both, cross.real())});
    }
    out.lossAfterDb = lossDb(all, crossed);
    out.leastLossDb = lossDb(all, most);
}

/// The part of the performance, weighted by power, in which the delay is as good as any and the right way up: near 1
/// for one performance; for strangers it is another in each piece.
/// @param say  of windows a quarter as long; none where both are alike
double foundAgain(std::span<const float> a, std::span<const float> b, const CrossSpectrum& whole, const Say* say,
                  double rate, double high, double delay, double sign, std::int64_t most)
{
    constexpr std::size_t kPieces = 24;
    constexpr double kAsGood = 0.8;
    const std::size_t window = whole.window(), n = std::min(a.size(), b.size());
    const std::size_t step = std::max<std::size_t>(window / 2, (n - window) / kPieces + 1);
    const double near = std::max(3.0, 0.00025 * rate);
    const auto white = whitening(whole, rate, high);
    std::vector<Complex> weights(white.begin(), white.end());
    for (std::size_t k = 0; say && k < weights.size(); ++k)
        weights[k] *= std::polar(say->weights[k / 4], -say->besides[k / 4]);
    CrossSpectrum piece(window);
    RealFft correlation(window);
    double all = 0.0, found = 0.0;
    for (std::size_t at = 0; at + window <= n; at += step) {
        piece.clear();
        piece.addWindow(a.subspan(at, window), b.subspan(at, window));
        double first = 0.0, second = 0.0;
        for (std::size_t k = 0; k < piece.bins(); ++k) {
            first += piece.first[k], second += piece.second[k];
            correlation.spectrum()[k] = std::complex<float>(weights[k] * piece.cross[k]);
        }
        correlation.inverse();
        const auto x = correlation.time();
        double highest = 0.0, there = 0.0;
        for (std::int64_t lag = -most; lag <= most; ++lag) {
            const double v = double(x[std::size_t(lag < 0 ? lag + std::int64_t(window) : lag)]);
            highest = std::max(highest, std::abs(v));
            if (std::abs(double(lag) - delay) <= near) there = std::max(there, sign * v);
        }
        const double power = std::sqrt(first * second);
        all += power;
        if (there >= kAsGood * highest) found += power;
    }
    return all > 0.0 ? found / all : 0.0;
}

} // namespace

double meanCoherence(const Alignment& alignment) noexcept
{
    double explained = 0.0, all = 0.0;
    for (const AlignedBand& band : alignment.bands) {
        explained += std::sqrt(band.share) * band.coherence;
        all += std::sqrt(band.share);
    }
    return all > 0.0 ? explained / all : 0.0;
}

double metresOf(double delaySamples, double rateHz) noexcept { return kSoundMS * delaySamples / rateHz; }

Result<Alignment> alignTo(std::span<const float> reference, std::span<const float> other, double rateHz, double maxMs)
{
    if (!(maxMs >= 0.1 && maxMs <= 1000.0))
        return Error{ErrorCode::Usage, fmt::format("aligning: up to {} ms is no sensible delay", maxMs),
                     "choose 0.1 to 1000 ms"};
    const auto most = std::int64_t(std::ceil(maxMs * 0.001 * rateHz));
    const std::size_t n = std::min(reference.size(), other.size());
    std::size_t window = 1024;
    while (window < std::size_t(0.6 * rateHz) || window < std::size_t(8 * most)) window *= 2;
    while (window > n && window > std::size_t(4 * most)) window /= 2;
    if (window > n)
        return Error{
            ErrorCode::OutOfRange,
            fmt::format("aligning: {:.2f} s are too short to find a delay of up to {} ms", double(n) / rateHz, maxMs),
            "take a longer part of the performance, or allow less delay"};
    for (const auto& [x, name] : {std::pair(reference, "the reference"), {other, "the other"}})
        if (rms(x) < kSilent)
            return Error{ErrorCode::OutOfRange, fmt::format("aligning: {} is silent", name),
                         "choose a recording in which the performance is heard"};

    CrossSpectrum coarse(window);
    coarse.add(reference, other, 0);
    const double high = std::min(kHighHz, 0.42 * rateHz);
    RealFft correlation(window);
    correlate(coarse, whitening(coarse, rateHz, high), correlation);
    const std::int64_t lag = firstPeak(correlation, most, 0.5);

    CrossSpectrum fine(std::max<std::size_t>(1024, window / 4));
    fine.add(reference, other, lag);
    const Pair pair(fine, rateHz);
    Alignment out;
    const auto oneDelay = ifAlike(pair);
    out.isAlike = oneDelay.has_value();
    const Say say = sayOfUnlike(pair);
    const Found found = oneDelay ? *oneDelay : unlike(pair, say);
    out.delaySamples = double(lag) + found.delay;
    out.isInverted = found.sign < 0.0;
    meet(pair, found, out);

    double both = 0.0, sum = 0.0;
    for (std::size_t i = 0; i < n; ++i) {
        const double a = double(reference[i]), b = double(other[i]);
        both += a * a + b * b;
        sum += (a + b) * (a + b);
    }
    out.lossBeforeDb = 10.0 * std::log10(both / std::max(1e-12 * both, sum));
    // The bands as they are now, by spectra without the lag.
    Alignment now;
    meet(Pair(coarse, rateHz), {0.0, 1.0}, now);
    for (std::size_t i = 0; i < std::min(now.bands.size(), out.bands.size()); ++i)
        out.bands[i].lossBeforeDb = now.bands[i].lossAfterDb;

    constexpr double kStranger = 0.1, kKin = 0.3; // of what is explained; of another's performance 0.16 at most
    out.confidence = foundAgain(reference, other, coarse, oneDelay ? nullptr : &say, rateHz, high, out.delaySamples,
                                found.sign, most) *
                     std::clamp((meanCoherence(out) - kStranger) / (kKin - kStranger), 0.0, 1.0);
    return out;
}

std::vector<float> movedEarlier(std::span<const float> x, double samples, bool invert)
{
    constexpr int kHalf = 64;
    constexpr double kAttenuationDb = 110.0;
    const double whole = std::floor(samples), part = samples - whole;
    std::vector<double> taps(2 * kHalf);
    const double beta = kaiserBeta(kAttenuationDb);
    double sum = 0.0;
    for (int k = 0; k < 2 * kHalf; ++k) {
        const double t = double(k - kHalf + 1) - part;
        taps[std::size_t(k)] = part == 0.0 ? (k == kHalf - 1 ? 1.0 : 0.0) : sinc(t) * kaiserAt(t / kHalf, beta);
        sum += taps[std::size_t(k)];
    }
    for (double& tap : taps) tap *= (invert ? -1.0 : 1.0) / sum;
    std::vector<float> out(x.size());
    const auto shift = std::int64_t(whole);
    for (std::int64_t i = 0; i < std::int64_t(x.size()); ++i) {
        double value = 0.0;
        const std::int64_t from = i + shift - kHalf + 1;
        const std::int64_t first = std::max<std::int64_t>(0, -from),
                           last = std::min<std::int64_t>(2 * kHalf, std::int64_t(x.size()) - from);
        for (std::int64_t k = first; k < last; ++k) value += taps[std::size_t(k)] * double(x[std::size_t(from + k)]);
        out[std::size_t(i)] = float(value);
    }
    return out;
}

} // namespace gristle::core
