#include "core/measure/hum.h"

#include "core/signal/cholesky.h"
#include "core/signal/fft.h"
#include "core/signal/window.h"
#include "core/units/decibels.h"
#include "core/units/vectorised.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>
#include <span>

namespace gristle::core {

namespace {

constexpr double kPi = std::numbers::pi;
constexpr int kMostHarmonics = 12;    // that are fitted, and claim a series
constexpr double kHighestHz = 3000.0; // a dimmer buzzes up to there
constexpr double kPullHz = 0.8;       // how far mains may be from nominal
constexpr double kLookHz = 2.5; // a note near by is seen to be one: its best is there, and not at its side lobes here
constexpr double kStandOutDb = 13.0;
constexpr double kWorkingRateHz = 2000.0; // 12 x 60.8 = 730 Hz fits below its 800 Hz pass band
constexpr double kBuzzRateHz = 8000.0;    // the same for 3,000 Hz
constexpr double kLongestS = 10.0;

struct Data {
    std::vector<double> t, x; ///< seconds, samples less their mean
    double spacing = 0.0;     ///< seconds between samples that follow each other
    double longestS = 0.0;
};

/// Low-passes and thins out a stretch to about a rate. The edges that the filter cannot reach are left out.
void thinOut(const TimedSamples& stretch, double rateHz, double toHz, Data& into)
{
    const auto step = std::max<std::size_t>(1, static_cast<std::size_t>(rateHz / toHz));
    const double lowRate = rateHz / double(step);
    const auto half = static_cast<std::size_t>(step == 1 ? 0 : 16 * step);
    std::vector<double> taps(2 * half + 1, 1.0);
    if (step > 1) {
        const double beta = kaiserBeta(60.0);
        double sum = 0.0;
        for (std::size_t k = 0; k < taps.size(); ++k) {
            const double t = double(k) - double(half);
            taps[k] = sinc(t / double(step)) * kaiserAt(t / double(half + 1), beta);
            sum += taps[k];
        }
        for (double& tap : taps) tap /= sum;
    }
    const auto& s = stretch.samples;
    const std::size_t before = into.t.size();
    into.spacing = double(step) / rateHz;
    for (std::size_t at = half; at + half < s.size(); at += step) {
        double y = 0.0;
        for (std::size_t k = 0; k < taps.size(); ++k) y += taps[k] * double(s[at - half + k]);
        into.t.push_back(stretch.startS + double(at) / rateHz);
        into.x.push_back(y);
    }
    double mean = 0.0; // each rest about its own: an offset that wanders must not look like a slow hum
    for (std::size_t i = before; i < into.x.size(); ++i) mean += into.x[i] / double(into.x.size() - before);
    for (std::size_t i = before; i < into.x.size(); ++i) into.x[i] -= mean;
    into.longestS = std::max(into.longestS, double(into.t.size() - before) / lowRate);
}

struct Fit {
    double explained = 0.0;         ///< power, DC aside
    std::vector<double> amplitudes; ///< of the harmonics asked for
};

/// A complex number for each sample, its parts side by side.
struct Phases {
    std::vector<double> re, im;
    explicit Phases(std::size_t n) : re(n, 1.0), im(n, 0.0) {}
};

/// exp(i 2 pi hz t) of each sample: the phase is turned on for 64 samples, then taken anew, since gaps count.
Phases circle(const Data& data, double hz)
{
    Phases out(data.t.size());
    const std::complex<double> turn = std::polar(1.0, 2.0 * kPi * hz * data.spacing);
    for (std::size_t i = 0; i < data.t.size();) {
        const std::size_t end = std::min(i + 64, data.t.size());
        std::complex<double> phase = std::polar(1.0, 2.0 * kPi * hz * data.t[i]);
        for (double expected = data.t[i]; i < end && std::abs(data.t[i] - expected) < 0.25 * data.spacing; ++i) {
            out.re[i] = phase.real(), out.im[i] = phase.imag();
            phase *= turn;
            expected += data.spacing;
        }
    }
    return out;
}

/// @returns the sums over z and over x z, once z was turned on by `one`.
GRISTLE_VECTORISED
std::array<double, 4> turnAndSum(Phases& z, const Phases& one, const std::vector<double>& x)
{
    constexpr std::size_t kLanes = 8; // sums side by side: in this order on every machine
    std::array<std::array<double, kLanes>, 4> sums{};
    const auto add = [&](std::size_t i, std::size_t lane) {
        const double re = z.re[i] * one.re[i] - z.im[i] * one.im[i], im = z.re[i] * one.im[i] + z.im[i] * one.re[i];
        z.re[i] = re, z.im[i] = im;
        sums[0][lane] += re, sums[1][lane] += im;
        sums[2][lane] += x[i] * re, sums[3][lane] += x[i] * im;
    };
    std::size_t i = 0;
    for (; i + kLanes <= x.size(); i += kLanes)
        for (std::size_t lane = 0; lane < kLanes; ++lane) add(i + lane, lane);
    for (std::size_t lane = 0; i < x.size(); ++i, ++lane) add(i, lane);
    std::array<double, 4> out{};
    for (std::size_t k = 0; k < out.size(); ++k) out[k] = std::accumulate(sums[k].begin(), sums[k].end(), 0.0);
    return out;
}

/// Least squares of DC and the harmonics `orders` of `hz`. The sums of the products of two harmonics are those of the
/// orders' sum and difference.
Fit fitSeries(const Data& data, double hz, const std::vector<int>& orders)
{
    const std::size_t n = 2 * orders.size() + 1, highest = std::size_t(2 * orders.back());
    std::vector<std::complex<double>> sums{double(data.t.size())}, withX{0.0};
    const Phases one = circle(data, hz);
    Phases z(data.t.size());
    for (std::size_t m = 1; m <= highest; ++m) {
        const auto [re, im, xRe, xIm] = turnAndSum(z, one, data.x);
        sums.emplace_back(re, im), withX.emplace_back(xRe, xIm);
    }
    std::vector<double> normal(n * n, 0.0), right(n, 0.0);
    normal[0] = double(data.t.size());
    right[0] = std::accumulate(data.x.begin(), data.x.end(), 0.0);
    for (std::size_t j = 0; j < orders.size(); ++j) {
        const std::size_t row = (2 * j + 1) * n, next = row + n;
        const auto& mean = sums[std::size_t(orders[j])];
        normal[row] = mean.real(), normal[next] = mean.imag();
        right[2 * j + 1] = withX[std::size_t(orders[j])].real(),
                      right[2 * j + 2] = withX[std::size_t(orders[j])].imag();
        for (std::size_t k = 0; k <= j; ++k) {
            const auto& apart = sums[std::size_t(orders[j] - orders[k])];
            const auto& together = sums[std::size_t(orders[j] + orders[k])];
            normal[row + 2 * k + 1] = 0.5 * (apart.real() + together.real());
            normal[next + 2 * k + 1] = 0.5 * (together.imag() + apart.imag());
            normal[next + 2 * k + 2] = 0.5 * (apart.real() - together.real());
            if (k < j) normal[row + 2 * k + 2] = 0.5 * (together.imag() - apart.imag());
        }
    }
    std::vector<double> solution = right;
    Fit fit;
    if (!solvePositive(normal, solution, n)) return fit;
    for (std::size_t k = 0; k < orders.size(); ++k) {
        const double amplitude = std::hypot(solution[2 * k + 1], solution[2 * k + 2]);
        fit.amplitudes.push_back(amplitude);
        fit.explained += solution[2 * k + 1] * right[2 * k + 1] + solution[2 * k + 2] * right[2 * k + 2];
    }
    return fit;
}

/// The power of the data at any frequency up to their own rate's half, for a first look: by one long transform, the
/// samples shared out between the points of its grid that they lie between.
class Periodogram {
public:
    explicit Periodogram(const Data& data)
        : fft_(fastFftSize(kFiner * (std::size_t((data.t.back() - data.t.front()) / data.spacing) + 2))),
          binHz_(1.0 / (double(fft_.size()) * data.spacing))
    {
        std::ranges::fill(fft_.time(), 0.0f);
        for (std::size_t i = 0; i < data.t.size(); ++i) {
            const double at = (data.t[i] - data.t.front()) / data.spacing;
            const auto whole = std::size_t(at);
            fft_.time()[whole] += float(data.x[i] * (1.0 - (at - double(whole))));
            fft_.time()[whole + 1] += float(data.x[i] * (at - double(whole)));
        }
        fft_.forward();
    }
    /// At the harmonics `orders` of `hz` together: what least squares explains, but for the overlap of the lines.
    double power(double hz, const std::vector<int>& orders)
    {
        double sum = 0.0;
        for (const int order : orders)
            sum += double(
                std::norm(fft_.spectrum()[std::min(fft_.size() / 2, std::size_t(std::lround(hz * order / binHz_)))]));
        return sum;
    }

private:
    static constexpr std::size_t kFiner = 16; // than the lines are wide
    RealFft fft_;
    double binHz_;
};

/// The frequency in [low, high] that explains most: a grid fine enough not to miss the peak, then a golden section on
/// the least-squares fit itself.
double bestFrequency(const Data& data, Periodogram& look, double low, double high, const std::vector<int>& orders)
{
    constexpr int kHalvings = 16; // to 0.001 of the grid: 0.00001 Hz in 10 s
    const double span = std::max(0.1, data.t.back() - data.t.front());
    const double step = 0.25 / (span * double(orders.back()));
    double best = low, most = -1.0;
    for (double f = low; f <= high; f += step) {
        const double e = look.power(f, orders);
        if (e > most) most = e, best = f;
    }
    double a = best - 1.5 * step, b = best + 1.5 * step;
    constexpr double kGolden = 0.6180339887498949;
    double c = b - kGolden * (b - a), d = a + kGolden * (b - a);
    double fc = fitSeries(data, c, orders).explained, fd = fitSeries(data, d, orders).explained;
    for (int i = 0; i < kHalvings; ++i) {
        if (fc > fd) {
            b = d, d = c, fd = fc;
            c = b - kGolden * (b - a);
            fc = fitSeries(data, c, orders).explained;
        } else {
            a = c, c = d, fc = fd;
            d = a + kGolden * (b - a);
            fd = fitSeries(data, d, orders).explained;
        }
    }
    return 0.5 * (a + b);
}

/// The run less its mean, Hann-weighted.
std::vector<double> windowed(std::span<const double> run)
{
    double mean = 0.0;
    for (const double v : run) mean += v / double(run.size());
    std::vector<double> out(run.size());
    for (std::size_t i = 0; i < run.size(); ++i)
        out[i] = (0.5 - 0.5 * std::cos(2.0 * kPi * (double(i) + 0.5) / double(run.size()))) * (run[i] - mean);
    return out;
}

/// Power at one frequency, the phase turned from sample to sample.
double powerAt(const std::vector<double>& x, double radiansASample)
{
    const std::complex<double> turn = std::polar(1.0, -radiansASample);
    std::complex<double> phase = 1.0, sum = 0.0;
    for (const double v : x) {
        sum += v * phase;
        phase *= turn;
    }
    return std::norm(sum);
}

/// First index and length of the longest run of the data without a gap.
std::pair<std::size_t, std::size_t> longestRun(const Data& data)
{
    std::size_t best = 0, length = 0, first = 0;
    for (std::size_t i = 1; i <= data.t.size(); ++i) {
        const bool gap = i == data.t.size() || data.t[i] - data.t[i - 1] > 1.5 * (data.t[1] - data.t[0]);
        if (!gap) continue;
        if (i - first > length) best = first, length = i - first;
        first = i;
    }
    return {best, length};
}

/// The harmonics first to last whose power is kStandOutDb over the median of the noise to both sides, and their
/// amplitudes.
std::vector<std::pair<int, double>> standingOut(const Data& data, double hz, int firstOrder, int lastOrder)
{
    const auto [first, count] = longestRun(data);
    const double spacing = data.t[first + 1] - data.t[first];
    const double resolution = 1.0 / (double(count) * spacing);
    const std::vector<double> run = windowed(std::span(data.x).subspan(first, count));
    const auto power = [&](double f) { return powerAt(run, 2.0 * kPi * f * spacing); };
    std::vector<std::pair<int, double>> out;
    for (int h = firstOrder; h <= lastOrder; ++h) {
        std::vector<double> around;
        for (int k = 3; k <= 9; ++k) {
            const double away = std::min(k * resolution, hz * (0.15 + 0.04 * k));
            around.push_back(power(h * hz - away));
            around.push_back(power(h * hz + away));
        }
        std::ranges::sort(around);
        const double noise = 0.5 * (around[6] + around[7]);
        // The weights of the window are half on the mean, and a sine stands at two frequencies.
        if (const double p = power(h * hz); p > noise * std::pow(10.0, kStandOutDb / 10.0))
            out.emplace_back(h, 4.0 * std::sqrt(p) / double(count));
    }
    return out;
}

std::vector<int> standingOut(const Data& data, double hz)
{
    std::vector<int> orders;
    for (const auto& [order, unused] : standingOut(data, hz, 1, kMostHarmonics)) orders.push_back(order);
    return orders;
}

bool isSeries(const std::vector<int>& orders)
{
    const auto low = std::ranges::count_if(orders, [](int h) { return h <= 5; });
    return !orders.empty() && (orders.front() == 1 || low >= 2);
}

/// The stretches that lie within kLongestS of the longest one's start, longest data first kept.
Data gather(const std::vector<TimedSamples>& rests, double rateHz, double toHz)
{
    const auto longest = std::ranges::max_element(
        rests, [](const auto& a, const auto& b) { return a.samples.size() < b.samples.size(); });
    Data data;
    for (const TimedSamples& rest : rests) {
        const double room = longest->startS + kLongestS - rest.startS;
        if (rest.startS < longest->startS - kLongestS / 2.0 || room <= 0.1) continue;
        TimedSamples part = rest;
        part.samples.resize(std::min(part.samples.size(), static_cast<std::size_t>(room * rateHz)));
        thinOut(part, rateHz, toHz, data);
    }
    return data;
}

} // namespace

std::optional<Hum> findHum(const std::vector<TimedSamples>& rests, double rateHz, Mains mains)
{
    if (rests.empty()) return std::nullopt;
    Data data = gather(rests, rateHz, kWorkingRateHz);
    if (data.t.size() < 100) return std::nullopt;
    const double origin = data.t.front();
    for (double& t : data.t) t -= origin;

    Periodogram look(data);
    std::vector<double> nominal;
    if (mains != Mains::Hz60) nominal.push_back(50.0);
    if (mains != Mains::Hz50) nominal.push_back(60.0);
    double mostExplained = 0.0, bestHz = 0.0;
    std::vector<int> bestOrders;
    for (const double around : nominal) {
        // Two rounds: a broad look with the low harmonics, then with those that stand out.
        double hz = bestFrequency(data, look, around - kLookHz, around + kLookHz, {1, 2, 3});
        if (std::abs(hz - around) > kPullHz) continue;
        std::vector<int> orders = standingOut(data, hz);
        if (!isSeries(orders)) continue;
        hz = bestFrequency(data, look, hz - 0.1, hz + 0.1, orders);
        orders = standingOut(data, hz);
        if (!isSeries(orders) || std::abs(hz - around) > kPullHz) continue;
        const double explained = fitSeries(data, hz, orders).explained;
        if (explained > mostExplained) mostExplained = explained, bestHz = hz, bestOrders = orders;
    }
    if (bestOrders.empty()) return std::nullopt;

    const Fit fit = fitSeries(data, bestHz, bestOrders);
    if (fit.amplitudes.empty()) return std::nullopt;
    Hum hum;
    hum.mainsHz = bestHz;
    double power = 0.0;
    for (std::size_t k = 0; k < bestOrders.size(); ++k) {
        hum.harmonics.push_back({bestHz * bestOrders[k], amplitudeToDb(fit.amplitudes[k])});
        power += fit.amplitudes[k] * fit.amplitudes[k];
    }
    // Higher ones, as a dimmer makes them, stand far apart: each by itself, in the longest rest.
    const int last = int(std::min(kHighestHz, 0.4 * rateHz) / bestHz);
    for (const auto& [order, amplitude] :
         standingOut(gather(rests, rateHz, kBuzzRateHz), bestHz, kMostHarmonics + 1, last)) {
        hum.harmonics.push_back({bestHz * order, amplitudeToDb(amplitude)});
        power += amplitude * amplitude;
    }
    hum.levelDbfs = powerToDb(power);
    return hum;
}

namespace {

/// Four-term window with side lobes at -92 dB, so that strong hum does not spill. Source: Harris 1978.
double blackmanHarris(double part)
{
    const double w = 2.0 * kPi * part;
    return 0.35875 - 0.48829 * std::cos(w) + 0.14128 * std::cos(2.0 * w) - 0.01168 * std::cos(3.0 * w);
}

} // namespace

double tonalPart(std::span<const float> samples, double rateHz, const std::optional<Hum>& hum)
{
    constexpr double kFromHz = 60.0, kLowToHz = 2000.0, kToHz = 10000.0;
    const auto n = std::min<std::size_t>(samples.size(), static_cast<std::size_t>(rateHz)); // at most a second
    if (n < 64) return 0.0;
    RealFft fft(fastFftSize(2 * n));
    std::ranges::fill(fft.time(), 0.0f);
    double mean = 0.0;
    for (std::size_t i = 0; i < n; ++i) mean += double(samples[i]);
    mean /= double(n);
    for (std::size_t i = 0; i < n; ++i)
        fft.time()[i] = static_cast<float>(blackmanHarris(double(i) / double(n)) * (double(samples[i]) - mean));
    fft.forward();
    const double binHz = rateHz / double(fft.size());
    const auto first = static_cast<std::size_t>(kFromHz / binHz);
    const auto last = std::min(static_cast<std::size_t>(kToHz / binHz), fft.size() / 2 - 1);
    const double mainLobeHz = 4.5 * rateHz / double(n); // of the window: half of 8 bins and a little
    std::vector<double> power;
    std::size_t low = 0; // of them, under kLowToHz
    for (std::size_t k = first; k <= last; ++k) {
        const double hz = binHz * double(k);
        const bool isMains =
            hum && std::abs(hz - hum->mainsHz * std::round(hz / hum->mainsHz)) < std::max(mainLobeHz, 1.0);
        if (!isMains) power.push_back(double(std::norm(fft.spectrum()[k]))), low += hz < kLowToHz;
    }
    if (power.size() < 16) return 0.0;
    double total = 0.0, lines = 0.0, part = 0.0;
    constexpr std::size_t kAround = 60;
    std::vector<double> near(power.begin(), power.begin() + long(std::min(kAround - 1, power.size()))); // in order
    std::ranges::sort(near);
    for (std::size_t k = 0; k < power.size(); ++k) {
        if (k > kAround) near.erase(std::ranges::lower_bound(near, power[k - kAround - 1]));
        if (const std::size_t next = k + kAround - 1; next < power.size())
            near.insert(std::ranges::upper_bound(near, power[next]), power[next]);
        total += power[k];
        if (power[k] > 30.0 * near[near.size() / 2]) lines += power[k];
        if (k + 1 == low && total > 0.0) part = lines / total;
    }
    return total > 0.0 ? std::max(part, lines / total) : 0.0;
}

} // namespace gristle::core
