#include "core/impulse/sweep.h"

#include "core/signal/fft.h"
#include "core/signal/minimum_phase.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <fmt/format.h>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kPi = std::numbers::pi;
constexpr double kPeak = 0.5;
constexpr double kLeadS = 0.001; // before the arrival
constexpr int kOrders = 5;

/// Half a cosine from 0 to 1.
double rise(double part) { return 0.5 - 0.5 * std::cos(kPi * std::clamp(part, 0.0, 1.0)); }

Error bad(std::string what, std::string remedy)
{
    return {ErrorCode::OutOfRange, "capture: " + std::move(what), std::move(remedy)};
}

/// The recording over the sweep, at all frequencies of the sweep; times before 0 stand at the end.
std::vector<float> deconvolved(std::span<const float> sweep, std::span<const float> recording, const SweepSettings& s)
{
    const std::size_t n = fastFftSize(sweep.size() + recording.size());
    RealFft fft(n);
    const auto transform = [&](std::span<const float> x) {
        std::ranges::fill(fft.time(), 0.0f);
        std::ranges::copy(x, fft.time().begin());
        fft.forward();
    };
    transform(sweep);
    std::vector<std::complex<float>> by(fft.spectrum().begin(), fft.spectrum().end());
    transform(recording);
    const double top = std::min(s.toHz, 0.47 * s.rateHz);
    for (std::size_t k = 0; k < by.size(); ++k) {
        const double hz = double(k) * s.rateHz / double(n);
        // Soft edges within the sweep's band: a sixth of an octave above, two thirds below.
        const double weight = hz <= 0.0 ? 0.0 : rise(1.5 * std::log2(hz / s.fromHz)) * rise(6.0 * std::log2(top / hz));
        const std::complex<double> x = by[k], y = fft.spectrum()[k];
        fft.spectrum()[k] = weight > 0.0 ? std::complex<float>(weight / double(n) * y * std::conj(x) / std::norm(x))
                                         : std::complex<float>();
    }
    fft.inverse();
    return {fft.time().begin(), fft.time().end()};
}

} // namespace

double SweepSettings::riseS() const noexcept { return seconds / std::log(toHz / fromHz); }

Result<std::vector<float>> sweep(const SweepSettings& s)
{
    if (!(s.fromHz >= 1.0 && s.fromHz < s.toHz && s.toHz <= 0.49 * s.rateHz))
        return Error{ErrorCode::Usage,
                     fmt::format("sweep: {:g} to {:g} Hz is no range at {} Hz", s.fromHz, s.toHz, s.rateHz),
                     fmt::format("go up, from 1 Hz or more to {:.0f} Hz at most", 0.49 * s.rateHz)};
    if (!(s.seconds >= 0.1 && s.seconds <= 120.0))
        return Error{ErrorCode::Usage, fmt::format("sweep: {:g} s is no length for it", s.seconds),
                     "choose 0.1 to 120 s"};
    constexpr double kFadeInCycles = 1.0, kFadeOutS = 0.002;
    std::vector<float> out(std::size_t(std::llround(s.seconds * s.rateHz)));
    const double l = s.riseS();
    for (std::size_t i = 0; i < out.size(); ++i) {
        const double t = double(i) / s.rateHz, left = s.seconds - t;
        const double cycles = s.fromHz * l * std::expm1(t / l);
        out[i] = float(kPeak * rise(cycles / kFadeInCycles) * rise(left / kFadeOutS) * std::sin(2.0 * kPi * cycles));
    }
    return out;
}

Result<SweepSettings> settingsOf(std::span<const float> x, int rateHz)
{
    const auto none = [] {
        return bad("the sweep's file holds no exponential sweep",
                   "give the very file that was played; impulse sweep makes one");
    };
    // Whole cycles up to the half and to the end, by crossings from below, each placed within its sample.
    std::vector<double> crossings;
    for (std::size_t i = 1; i < x.size(); ++i)
        if (x[i - 1] < 0.0f && x[i] >= 0.0f)
            crossings.push_back(double(i) - double(x[i]) / (double(x[i]) - double(x[i - 1])));
    if (crossings.size() < 30 || double(crossings.size()) > 0.5 * double(x.size())) return none();
    // Cycle k ends at t with k = f1 L (exp(t / L) - 1): three of them tell both, as their differences' ratio grows with
    // the time between.
    const double duration = double(x.size()) / rateHz;
    const auto cyclesAt = [&](double s) {
        const double at = s * rateHz;
        const auto after = std::ranges::lower_bound(crossings, at);
        if (after == crossings.begin()) return at / crossings.front();
        if (after == crossings.end()) return double(crossings.size());
        const double from = *(after - 1);
        return double(after - crossings.begin()) + (at - from) / (*after - from);
    };
    const double quarter = cyclesAt(0.3 * duration), half = cyclesAt(0.6 * duration), most = cyclesAt(0.9 * duration);
    const double growth = (most - half) / (half - quarter); // exp(0.3 T / L)
    if (!(growth > 1.01)) return none();
    SweepSettings out;
    out.rateHz = rateHz;
    out.seconds = duration;
    const double l = 0.3 * duration / std::log(growth);
    out.fromHz = (half - quarter) / (l * (std::exp(0.6 * duration / l) - std::exp(0.3 * duration / l)));
    out.toHz = out.fromHz * std::exp(duration / l);
    // It is one if the cycles in between come when they should.
    for (const double part : {0.45, 0.75, 0.8}) {
        const double expected =
            quarter + out.fromHz * l * (std::exp(part * duration / l) - std::exp(0.3 * duration / l));
        if (std::abs(cyclesAt(part * duration) - expected) > 1.0 + 0.002 * expected) return none();
    }
    if (!(out.fromHz > 0.5 && out.toHz < 0.52 * rateHz)) return none();
    return out;
}

Result<Captured> capture(std::span<const float> played, std::span<const float> recording, int rateHz,
                         const CaptureOptions& options)
{
    if (!(options.lengthS >= 0.01 && options.lengthS <= 10.0))
        return Error{ErrorCode::Usage, fmt::format("capture: {:g} s is no length for an impulse", options.lengthS),
                     "choose 0.01 to 10 s"};
    const auto settings = settingsOf(played, rateHz);
    if (!settings) return settings.error();
    constexpr float kFull = 0.9999f;
    std::size_t flat = 0; // samples in a row that stand at full scale: floating point may pass it
    float peak = 0.0f;
    bool isClipped = false;
    for (std::size_t i = 1; i < recording.size(); ++i) {
        flat = std::abs(recording[i]) >= kFull && recording[i] == recording[i - 1] ? flat + 1 : 0;
        isClipped = isClipped || flat >= 2;
        peak = std::max(peak, std::abs(recording[i]));
    }
    if (peak < 1e-4f)
        return bad("the recording is silent", "check the cable, the microphone and the input that was recorded");
    if (isClipped) return bad("the recording clips", "turn the preamp down and record the sweep again");
    if (recording.size() < played.size())
        return bad(fmt::format("the recording ({:.1f} s) is shorter than the sweep ({:.1f} s)",
                               double(recording.size()) / rateHz, double(played.size()) / rateHz),
                   "record until the sweep has ended and the room is still");

    const auto h = deconvolved(played, recording, *settings);
    const auto n = std::int64_t(h.size());
    const auto at = [&](std::int64_t i) { return h[std::size_t(((i % n) + n) % n)]; };
    // The loudest moment is where the linear part arrives, at a time that the recording has.
    const auto last = std::int64_t(recording.size());
    std::int64_t loudest = 0;
    for (std::int64_t i = 0; i < last; ++i)
        if (std::abs(at(i)) > std::abs(at(loudest))) loudest = i;
    constexpr double kArrives = 0.1, kLookBackS = 0.02;
    std::int64_t arrival = loudest;
    for (std::int64_t i = loudest; i > loudest - std::llround(kLookBackS * rateHz); --i)
        if (std::abs(at(i)) >= kArrives * std::abs(at(loudest))) arrival = i;

    const auto length = std::int64_t(std::llround(options.lengthS * rateHz)),
               lead = std::int64_t(std::llround(kLeadS * rateHz));
    const auto sumOver = [&](std::int64_t from, std::int64_t to) {
        double sum = 0.0;
        for (std::int64_t i = from; i < to; ++i) sum += double(at(i)) * double(at(i));
        return sum;
    };
    const double linear = sumOver(arrival - lead, arrival + length);
    // Noise: what stands there long after the arrival, when the room is still; in the middle of many windows.
    const double riseS = settings->riseS();
    constexpr std::int64_t kWindows = 24;
    const std::int64_t quietFrom = arrival + length + rateHz / 10,
                       each = std::max<std::int64_t>(64, (last - quietFrom) / kWindows);
    std::vector<double> powers;
    for (std::int64_t i = quietFrom; i + each <= last; i += each) powers.push_back(sumOver(i, i + each) / double(each));
    if (powers.empty()) powers.push_back(0.0);
    std::ranges::nth_element(powers, powers.begin() + long(powers.size() / 2));
    const double noise = powers[powers.size() / 2] * double(length + lead);
    Captured out;
    out.settings = *settings;
    out.arrivalSamples = double(arrival);
    out.snrDb = 10.0 * std::log10(linear / std::max(1e-30, noise));
    double all = 0.0;
    for (int order = 2; order <= kOrders; ++order) {
        const auto there = arrival - std::int64_t(std::llround(riseS * std::log(double(order)) * rateHz));
        const auto next = std::int64_t(std::llround(riseS * std::log(double(order) / (order - 1)) * rateHz));
        // Harmonics are turned by parts of a cycle, so that they spread to both sides of their place.
        const std::int64_t before = next / 4, window = std::min(length, next / 2);
        const double found = std::max(0.0, sumOver(there - before, there + window) -
                                               noise * double(window + before) / double(length + lead));
        out.orderPercent[std::size_t(order - 2)] = 100.0 * std::sqrt(found / linear);
        all += found;
    }
    out.distortionPercent = 100.0 * std::sqrt(all / linear);
    constexpr double kLeastShare = 0.5; // of all that the recording gives: the answer comes at one moment
    if (linear < kLeastShare * sumOver(0, last)) {
        const auto other = settingsOf(recording, rateHz);
        return bad(
            other ? fmt::format("the recording is of another sweep, about {:.0f} to {:.0f} Hz", other->fromHz,
                                other->toHz)
                  : std::string("no answer to this sweep stands out of the recording: another sweep, another rate, "
                                "or too much noise"),
            "record the very sweep that is given here, louder or for longer");
    }

    const std::int64_t from = options.keepDelay ? 0 : arrival - lead;
    const std::int64_t frames = options.keepDelay ? arrival + length : lead + length;
    std::vector<float> taps;
    taps.resize(std::size_t(frames));
    constexpr double kFades = 0.15; // of the length, so that the end is no step and the low end stays
    for (std::int64_t i = 0; i < frames; ++i)
        taps[std::size_t(i)] = float(double(at(from + i)) * rise(double(frames - i) / (kFades * double(length))) *
                                     rise(double(from + i - (arrival - 2 * lead)) / double(lead)));
    if (options.minimumPhase) {
        RealFft fft(fastFftSize(4 * taps.size()));
        std::ranges::fill(fft.time(), 0.0f);
        std::ranges::copy(taps, fft.time().begin());
        fft.forward();
        const auto gainAt = [&](double hz) {
            const auto k =
                std::min(fft.spectrum().size() - 1, std::size_t(std::llround(hz * double(fft.size()) / rateHz)));
            return double(std::abs(fft.spectrum()[k]));
        };
        taps = minimumPhase(gainAt, rateHz, std::size_t(length));
    }
    out.impulse = Recording{rateHz, AudioBuffer(1, taps.size())};
    std::ranges::copy(taps, out.impulse.audio.channel(0).begin());
    return out;
}

} // namespace gristle::core
