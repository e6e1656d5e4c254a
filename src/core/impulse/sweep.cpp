#include "core/impulse/sweep.h"

#include "core/impulse/sweep_pace.h"
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
constexpr double kMostPpm = 500.0; // of drift: clocks of two interfaces part by some tens

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

/// What is wrong with a recording whatever was played.
Outcome checkRecording(std::span<const float> recording, std::size_t needed, int rateHz)
{
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
    if (recording.size() < needed)
        return bad(fmt::format("the recording ({:.1f} s) is shorter than what was played ({:.1f} s)",
                               double(recording.size()) / rateHz, double(needed) / rateHz),
                   "record until the sweep has ended and the room is still");

    return Done{};
}

/// Of one sweep: by its response, without distortion.
Pace paceOfOne(std::span<const float> recording, std::span<const float> played, const SweepSettings& settings,
               double mostPpm)
{
    const auto h = deconvolved(played, recording, settings);
    const auto end = h.begin() + long(std::min(h.size(), recording.size()));
    const auto loudest = std::size_t(
        std::max_element(h.begin(), end, [](float a, float b) { return std::abs(a) < std::abs(b); }) - h.begin());
    // Some way before it, clear of the second order, and as far behind.
    const double clearS = std::min(0.08, 0.4 * settings.riseS() * std::log(2.0));
    const auto before = std::min(loudest, std::size_t(clearS * settings.rateHz));
    return paceOf(std::span(h).subspan(loudest - before, std::min(h.size() - loudest + before, 2 * before + 128)),
                  settings, mostPpm);
}

/// Clocks that part: found, and where they do so by more than the doubt and no more than can be, mended.
void followDrift(std::vector<float>& recording, std::span<const float> played, const SweepSettings& settings,
                 std::span<const std::size_t> starts, std::size_t period, Captured& out)
{
    constexpr double kLeastPpm = 3.0, kEnoughPpm = 0.02;
    const bool isOne = starts.size() == 1;
    const Pace pace = isOne ? paceOfOne(recording, played, settings, 2.0 * kMostPpm)
                            : paceOfRepeats(recording, period, starts, settings.rateHz);
    out.driftPpm = pace.ppm, out.driftDoubtPpm = pace.doubtPpm;
    if (std::abs(pace.ppm) <= std::max(kLeastPpm, pace.doubtPpm) || std::abs(pace.ppm) > kMostPpm) return;
    auto mended = atPace(recording, out.driftPpm);
    for (int i = 0; isOne && i < 6; ++i) { // what is left of a smeared response is told better by a sharper one
        const double more = paceOfOne(mended, played, settings, 20.0).ppm;
        if (std::abs(more) < kEnoughPpm) break;
        out.driftPpm += more;
        mended = atPace(recording, out.driftPpm);
    }
    recording = std::move(mended);
    out.isDriftCorrected = true;
}

/// What does not repeat: as strong as the noise that their mean keeps, and nothing else. Empty of one.
std::vector<float> differenceOfRepeats(std::span<const float> recording, std::span<const std::size_t> starts,
                                       std::size_t period)
{
    if (starts.size() < 2) return {};
    const std::size_t used = starts.size() / 2 * 2;
    const double weight = 1.0 / std::sqrt(double(used) * double(starts.size())); // squares sum to those of the mean
    std::vector<float> out(period);
    for (std::size_t i = 0; i < period; ++i) {
        double sum = 0.0;
        for (std::size_t k = 0; k < used; ++k)
            if (starts[k] + i < recording.size())
                sum += (k % 2 == 0 ? weight : -weight) * double(recording[starts[k] + i]);
        out[i] = float(sum);
    }
    return out;
}

Result<Captured> capture(std::span<const float> played, std::span<const float> recorded, int rateHz,
                         const CaptureOptions& options)
{
    if (!(options.lengthS >= 0.01 && options.lengthS <= 10.0))
        return Error{ErrorCode::Usage, fmt::format("capture: {:g} s is no length for an impulse", options.lengthS),
                     "choose 0.01 to 10 s"};
    const auto settings = settingsOf(played, rateHz);
    if (!settings) return settings.error();
    const auto period = options.periodS > 0.0 ? std::size_t(std::llround(options.periodS * rateHz)) : played.size();
    if (options.repeats < 1 || options.repeats > 64 || period < played.size())
        return Error{
            ErrorCode::Usage,
            fmt::format("capture: {} sweeps of one every {:g} s cannot be", options.repeats, double(period) / rateHz),
            "choose 1 to 64 sweeps, each as long as the sweep at least"};
    std::vector<std::size_t> starts;
    for (std::size_t i = 0; i < options.repeats; ++i) starts.push_back(i * period);
    const std::size_t needed = starts.back() + played.size();
    if (const auto good = checkRecording(recorded, needed, rateHz); !good) return good.error();
    Captured out;
    out.settings = *settings;
    std::vector<float> recording(recorded.begin(), recorded.end());
    if (options.followDrift) followDrift(recording, played, *settings, starts, period, out);
    const auto differing = differenceOfRepeats(recording, starts, period);
    // The mean of all; what follows the last one is its own.
    for (std::size_t i = 0; options.repeats > 1 && i < recording.size() - starts.back(); ++i) {
        double sum = 0.0;
        for (const std::size_t from : starts) sum += double(recording[from + i]);
        recording[i] = i < period ? float(sum / double(starts.size())) : recording[starts.back() + i];
    }
    recording.resize(recording.size() - starts.back());

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
    // Noise of one sweep: what stands there long after the arrival, when the room is still; in the middle of many
    // windows. Of several: what does not repeat.
    const double riseS = settings->riseS();
    double noise = 0.0;
    if (!differing.empty()) {
        const auto only = deconvolved(played, differing, *settings);
        for (std::int64_t i = arrival - lead; i < arrival + length; ++i)
            noise +=
                std::pow(double(only[std::size_t((i + std::int64_t(only.size())) % std::int64_t(only.size()))]), 2.0);
    } else {
        // Later than the recording goes on after the sweep, a part of the sweep would look at nothing.
        constexpr std::int64_t kWindows = 24;
        const std::int64_t whole = std::max<std::int64_t>(rateHz / 20, last - std::int64_t(played.size())),
                           quietFrom = std::min(arrival + length + rateHz / 10, whole / 2),
                           each = std::max<std::int64_t>(64, (whole - quietFrom) / kWindows);
        std::vector<double> powers;
        for (std::int64_t i = quietFrom; i + each <= whole; i += each)
            powers.push_back(sumOver(i, i + each) / double(each));
        std::ranges::nth_element(powers, powers.begin() + long(powers.size() / 2));
        noise = powers[powers.size() / 2] * double(length + lead);
    }
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

    if (std::abs(out.driftPpm) > kMostPpm)
        return bad(fmt::format("the recording drifts by {:.0f} parts in a million: it was made by another clock, or at "
                               "another rate, than it says",
                               out.driftPpm),
                   "play and record over one interface, or give both the same clock");

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
