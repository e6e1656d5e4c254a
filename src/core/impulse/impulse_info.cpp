#include "core/impulse/impulse_info.h"

#include "core/audio/audio_reader.h"
#include "core/audio/resampler.h"
#include "core/signal/fft.h"
#include "core/signal/minimum_phase.h"
#include "core/timing/alignment.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kLongestS = 20.0;
constexpr double kArrives = 0.1;

Error noImpulse(std::string what, std::string remedy)
{
    return {ErrorCode::OutOfRange, "impulse: " + std::move(what), std::move(remedy)};
}

std::vector<std::complex<double>> spectrumOf(std::span<const float> taps, std::size_t n)
{
    RealFft fft(n);
    std::ranges::fill(fft.time(), 0.0f);
    std::ranges::copy(taps.first(std::min(taps.size(), n)), fft.time().begin());
    fft.forward();
    return {fft.spectrum().begin(), fft.spectrum().end()};
}

/// Whether what is left when the arrival is taken off is what a minimum-phase filter of the same magnitudes gives: the
/// share of its energy that comes as early.
bool isMinimum(std::span<const float> taps, int rateHz)
{
    const std::size_t n = fastFftSize(std::max<std::size_t>(4096, 4 * taps.size()));
    const auto spectrum = spectrumOf(taps, n);
    const auto gainAt = [&](double hz) {
        const auto k = std::min(spectrum.size() - 1, std::size_t(std::llround(hz * double(n) / rateHz)));
        return std::abs(spectrum[k]);
    };
    const auto least = minimumPhase(gainAt, rateHz, std::max<std::size_t>(256, taps.size()));
    // Correlated over all delays: 1 where they are alike.
    const auto other = spectrumOf(least, n);
    RealFft fft(n);
    double mine = 0.0, its = 0.0;
    for (std::size_t k = 0; k < spectrum.size(); ++k) {
        fft.spectrum()[k] = std::complex<float>(spectrum[k] * std::conj(other[k]));
        const double times = k == 0 || k + 1 == spectrum.size() ? 0.5 : 1.0; // the others stand for two
        mine += times * std::norm(spectrum[k]), its += times * std::norm(other[k]);
    }
    fft.inverse();
    float highest = 0.0f;
    for (const float v : fft.time()) highest = std::max(highest, std::abs(v));
    constexpr double kAlike = 0.98;
    return double(highest) / (2.0 * std::sqrt(mine * its)) > kAlike;
}

std::size_t arrivalOf(std::span<const float> taps)
{
    float highest = 0.0f;
    for (const float v : taps) highest = std::max(highest, std::abs(v));
    std::size_t i = 0;
    while (i < taps.size() && std::abs(taps[i]) < kArrives * double(highest)) ++i;
    return i;
}

} // namespace

std::vector<ResponsePoint> smoothedResponse(std::span<const float> taps, int rateHz)
{
    const std::size_t n = fastFftSize(std::max<std::size_t>(std::size_t(rateHz), 2 * taps.size())); // 1 Hz or finer
    const auto spectrum = spectrumOf(taps, n);
    std::vector<double> sums(spectrum.size() + 1);
    for (std::size_t k = 0; k < spectrum.size(); ++k) sums[k + 1] = sums[k] + std::norm(spectrum[k]);
    const auto upTo = [&](double hz) { // power below a frequency, parts of bins counted as parts
        const double at = std::clamp(hz * double(n) / rateHz + 0.5, 0.0, double(spectrum.size()));
        const auto k = std::min(spectrum.size() - 1, std::size_t(at));
        return sums[k] + (at - double(k)) * (sums[k + 1] - sums[k]);
    };
    std::vector<ResponsePoint> out;
    const double half = std::exp2(1.0 / 12.0);
    for (int step = 0;; ++step) {
        const double hz = 20.0 * std::exp2(step / 12.0);
        if (hz > 0.5 * rateHz) break;
        const double low = hz / half, high = std::min(hz * half, 0.5 * rateHz);
        const double power = (upTo(high) - upTo(low)) / ((high - low) * double(n) / rateHz);
        out.push_back({hz, 10.0 * std::log10(std::max(1e-20, power))});
    }
    return out;
}

bool looksPerformed(double outstandingDb, double energy90Ms, double seconds)
{
    constexpr double kStandsOutDb = 12.0, kMostShare = 0.6;
    return outstandingDb < kStandsOutDb || energy90Ms > kMostShare * 1000.0 * seconds;
}

std::vector<ResponsePoint> levelled(std::vector<ResponsePoint> response)
{
    double sum = 0.0;
    int count = 0;
    for (const ResponsePoint& p : response)
        if (p.hz >= 200.0 && p.hz <= 2000.0) sum += dbToPower(p.db), ++count;
    const double mean = sum > 0.0 ? powerToDb(sum / count) : 0.0;
    for (ResponsePoint& p : response) p.db -= mean;
    return response;
}

Result<ImpulseInfo> impulseInfo(const Recording& impulse)
{
    const auto taps = impulse.audio.channel(0);
    const double seconds = double(taps.size()) / impulse.sampleRateHz;
    if (seconds > kLongestS)
        return noImpulse(fmt::format("{:.0f} s are no impulse response but a recording", seconds),
                         "choose a file of some seconds at most, or cut the response out of it");
    double all = 0.0;
    float highest = 0.0f;
    for (const float v : taps) all += double(v) * double(v), highest = std::max(highest, std::abs(v));
    if (highest > kMostSample)
        return noImpulse("its samples reach far over full scale", "choose another file: this one is broken");
    if (!(all > 1e-14)) return noImpulse("the file is silent", "choose a file that holds a response");
    ImpulseInfo out;
    out.lengthSamples = taps.size();
    const std::size_t arrival = arrivalOf(taps);
    out.arrivalSamples = double(arrival);
    double sum = 0.0;
    std::size_t i = 0;
    for (; i < taps.size() && sum < 0.9 * all; ++i) sum += double(taps[i]) * double(taps[i]);
    out.energy90Ms = 1000.0 * std::max(0.0, double(i) - double(arrival)) / impulse.sampleRateHz;
    out.outstandingDb = 10.0 * std::log10(double(highest) * double(highest) * double(taps.size()) / all);
    out.isMinimumPhase = isMinimum(taps.subspan(arrival > 4 ? arrival - 4 : 0), impulse.sampleRateHz);
    out.response = smoothedResponse(taps, impulse.sampleRateHz);
    return out;
}

namespace {

/// An impulse file at a rate; alike channels are one.
Result<Recording> impulseAt(const std::filesystem::path& file, int rateHz)
{
    auto read = readRecording(file);
    if (!read) return read.error();
    const auto about = [&](std::string what, std::string remedy) {
        return Error{ErrorCode::Unsupported, file.filename().string() + ": " + std::move(what), std::move(remedy)};
    };
    if (read->audio.channels() > 2)
        return about(fmt::format("it has {} channels", read->audio.channels()), "take one or two of them");
    if (const auto info = impulseInfo(*read); !info)
        return Error{info.error().code, file.filename().string() + ": " + info.error().message, info.error().remedy};
    const double ratio = double(read->sampleRateHz) / (rateHz > 0 ? rateHz : read->sampleRateHz);
    if (ratio != 1.0) *read = resampled(*read, rateHz); // so that the response stays
    const bool isStereo =
        read->audio.channels() == 2 && !std::ranges::equal(read->audio.channel(0), read->audio.channel(1));
    Recording out{read->sampleRateHz, AudioBuffer(isStereo ? 2 : 1, read->audio.frames())};
    for (std::size_t c = 0; c < out.audio.channels(); ++c)
        std::ranges::transform(read->audio.channel(c), out.audio.channel(c).begin(),
                               [&](float v) { return float(double(v) * ratio); });
    return out;
}

constexpr std::size_t kSpread = 64; // to each side, where a move is not whole: half of what movedEarlier() weighs

bool isWhole(double samples) { return samples == std::floor(samples); }

/// Samples that a file lacks before its first sound for being moved; later is negative where it goes earlier.
std::size_t missingInFront(const AudioBuffer& audio, double later)
{
    std::size_t silent = audio.frames();
    for (std::size_t c = 0; c < audio.channels(); ++c) {
        const auto x = audio.channel(c);
        silent = std::min(silent, std::size_t(std::ranges::find_if(x, [](float v) { return v != 0.0f; }) - x.begin()));
    }
    const double needed = std::max(0.0, std::ceil(-later)) + (isWhole(later) ? 0.0 : double(kSpread));
    return needed > double(silent) ? std::size_t(needed) - silent : 0;
}

} // namespace

Result<Blend> blendImpulses(const std::vector<BlendPart>& parts, bool align)
{
    if (parts.empty()) return Error{ErrorCode::Usage, "blend: there is no impulse to blend", "name at least one"};
    Blend out;
    std::vector<Recording> files;
    int rate = 0;
    std::size_t longest = 0, channels = 1;
    for (std::size_t i = 0; i < parts.size(); ++i) {
        auto read = impulseAt(parts[i].file, rate);
        if (!read) return read.error();
        if (rate == 0) rate = read->sampleRateHz;
        files.push_back(std::move(*read));
        AudioBuffer& audio = files[i].audio;
        if (audio.channels() == 2 || parts[i].side != BlendSide::Both) channels = 2;
        double earlier = 0.0;
        bool isTurned = false;
        if (align && i > 0) {
            // As recordings of one click: padded on both sides, so that any delay between them is found.
            const auto padded = [&](const AudioBuffer& a) {
                const auto x = a.channel(0);
                const auto silent = std::size_t(0.05 * rate);
                std::vector<float> own(silent);
                own.insert(own.end(), x.begin(), x.end());
                own.resize(silent + std::max({files[0].audio.frames(), audio.frames(), std::size_t(0.25 * rate)}));
                return own;
            };
            const auto met = alignTo(padded(std::as_const(files[0].audio)), padded(audio), rate, 20.0);
            if (!met) return met.error();
            earlier = met->delaySamples;
            isTurned = met->isInverted;
        }
        out.alignedSamples.push_back(earlier);
        out.isTurned.push_back(isTurned);
    }
    const auto laterOf = [&](std::size_t i) { return parts[i].delaySamples - out.alignedSamples[i]; };
    if (align) // what is moved earlier needs room in front, where it begins at its first sample
        for (std::size_t i = 0; i < parts.size(); ++i)
            out.frontSamples = std::max(out.frontSamples, missingInFront(files[i].audio, laterOf(i)));
    std::vector<std::vector<double>> sums(channels);
    for (std::size_t i = 0; i < parts.size(); ++i) {
        const BlendPart& part = parts[i];
        const double later = laterOf(i), gain = std::pow(10.0, part.gainDb / 20.0);
        for (std::size_t c = 0; c < channels; ++c) {
            if (part.side == (c == 0 ? BlendSide::Right : BlendSide::Left)) continue;
            const auto x = std::as_const(files[i].audio).channel(std::min(c, files[i].audio.channels() - 1));
            std::vector<float> own(out.frontSamples);
            own.insert(own.end(), x.begin(), x.end());
            // Room for what comes later, and behind it for what a part of a sample spreads.
            if (!isWhole(later) || later > 0.0)
                own.resize(own.size() + std::size_t(std::max(0.0, std::ceil(later))) + (isWhole(later) ? 0 : kSpread));
            own = movedEarlier(own, -later, part.invert != out.isTurned[i]);
            longest = std::max(longest, own.size());
            sums[c].resize(std::max(sums[c].size(), own.size()));
            for (std::size_t k = 0; k < own.size(); ++k) sums[c][k] += double(float(gain * double(own[k])));
        }
    }
    out.sum = Recording{rate, AudioBuffer(channels, longest)};
    for (std::size_t c = 0; c < channels; ++c)
        std::ranges::transform(sums[c], out.sum.audio.channel(c).begin(), [](double v) { return float(v); });
    return out;
}

} // namespace gristle::core
