#include "core/mix/figures/clean_judge.h"

#include "core/measure/activity.h"
#include "core/signal/fft.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kHopS = 0.01;
constexpr std::size_t kWindow = 4096;
constexpr double kLowHz = 80.0, kHighHz = 5000.0;
constexpr double kBandOverNoise = 10.0;

/// Sums of power a bin of windows that lie whole in what plays, and whole in what rests.
struct Spectra {
    std::vector<double> play = std::vector<double>(kWindow / 2 + 1), rest = play;
    std::size_t plays = 0, rests = 0;
    double restSquares = 0.0;
    std::size_t restFrames = 0;
};

Result<Spectra> spectraOf(const std::filesystem::path& file, std::size_t channel, const std::vector<bool>& playing,
                          const std::vector<bool>& resting, const Progress& progress)
{
    auto reader = AudioReader::open(file);
    if (!reader) return reader.error();
    const double hop = kHopS * reader->info().sampleRateHz;
    Spectra out;
    RealFft fft(kWindow);
    std::vector<float> window(kWindow, 0.0f);
    AudioBuffer block;
    for (std::int64_t at = 0;; at += kWindow) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "judging: stopped", ""};
        const auto got = reader->read(block, kWindow);
        if (!got) return got.error();
        if (*got < kWindow) break;
        const auto x = std::as_const(block).channel(std::min(channel, block.channels() - 1));
        const auto first = std::size_t(double(at) / hop), last = std::size_t(double(at + kWindow - 1) / hop);
        const auto whole = [&](const std::vector<bool>& which) {
            for (std::size_t h = first; h <= last; ++h)
                if (h >= which.size() || !which[h]) return false;
            return true;
        };
        const bool plays = whole(playing), rests = !plays && whole(resting);
        if (!plays && !rests) continue;
        for (std::size_t i = 0; i < kWindow; ++i)
            fft.time()[i] = x[i] * float(0.5 - 0.5 * std::cos(2.0 * std::numbers::pi * double(i) / kWindow));
        fft.forward();
        auto& sum = plays ? out.play : out.rest;
        for (std::size_t k = 0; k < sum.size(); ++k) sum[k] += double(std::norm(fft.spectrum()[k]));
        ++(plays ? out.plays : out.rests);
        if (rests) {
            for (const float v : x) out.restSquares += double(v) * double(v);
            out.restFrames += kWindow;
        }
        progress.at(double(at) / double(std::max<std::int64_t>(1, reader->info().frames)));
    }
    return out;
}

double bandSum(const std::vector<double>& power, double lowHz, double highHz, double binHz)
{
    double sum = 0.0;
    for (auto k = std::size_t(std::ceil(lowHz / binHz)); k < power.size() && double(k) * binHz < highHz; ++k)
        sum += power[k];
    return sum;
}

} // namespace

Result<std::optional<CleanJudgement>> judgeCleaning(const std::filesystem::path& before, std::size_t channel,
                                                    const std::filesystem::path& after, const Progress& progress)
{
    auto reader = AudioReader::open(before);
    if (!reader) return reader.error();
    HopTrack hops(reader->info().sampleRateHz);
    AudioBuffer block;
    while (true) {
        const auto got = reader->read(block, 16384);
        if (!got) return got.error();
        if (*got == 0) break;
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "judging: stopped", ""};
        hops.push(std::as_const(block).channel(std::min(channel, block.channels() - 1)));
    }
    hops.finish();
    const auto powers = hops.powers();
    std::vector<bool> resting(powers.size(), false);
    for (const Stretch& s : findRests(powers))
        for (std::size_t h = s.first; h < s.first + s.count && h < resting.size(); ++h) resting[h] = true;
    double floor = 0.0, count = 0.0;
    for (std::size_t h = 0; h < powers.size(); ++h)
        if (resting[h]) floor += powers[h], count += 1.0;
    if (count == 0.0) return std::optional<CleanJudgement>{};
    const auto playing = findPlaying(powers, floor / count);
    const auto x = spectraOf(before, channel, playing, resting, progress);
    if (!x) return x.error();
    const auto y = spectraOf(after, 0, playing, resting, progress);
    if (!y) return y.error();
    if (x->plays == 0 || x->rests == 0 || y->plays == 0 || y->rests == 0) return std::optional<CleanJudgement>{};

    CleanJudgement out;
    out.restBeforeDbfs = aes17Dbfs(x->restSquares / double(x->restFrames));
    out.restAfterDbfs = aes17Dbfs(y->restSquares / double(y->restFrames));
    const double binHz = double(reader->info().sampleRateHz) / kWindow;
    double kept = 0.0, had = 0.0, noiseGone = 0.0;
    for (double centre = kLowHz; centre < kHighHz; centre *= std::pow(2.0, 1.0 / 3.0)) {
        const double low = centre * std::pow(2.0, -1.0 / 6.0), high = centre * std::pow(2.0, 1.0 / 6.0);
        const auto sum = [&](const std::vector<double>& p, std::size_t n) {
            return bandSum(p, low, high, binHz) / double(n);
        };
        const double xn = sum(x->rest, x->rests), yn = sum(y->rest, y->rests);
        const double gx = std::max(0.0, sum(x->play, x->plays) - xn), gy = std::max(0.0, sum(y->play, y->plays) - yn);
        had += gx, kept += gy, noiseGone += std::max(0.0, xn - yn);
        if (gx < kBandOverNoise * xn || gy <= 0.0) continue;
        if (const double loss = powerToDb(gx / gy); loss > out.worstLossDb)
            out.worstLossDb = loss, out.worstHz = centre;
    }
    if (had > 0.0 && kept > 0.0) out.lossDb = powerToDb(had / kept);
    out.costsMore = had - kept > noiseGone;
    return std::optional(out);
}

Outcome writeRemoved(const std::filesystem::path& before, std::size_t channel, const std::filesystem::path& after,
                     const std::filesystem::path& out, SampleFormat format)
{
    auto x = AudioReader::open(before);
    if (!x) return x.error();
    auto y = AudioReader::open(after);
    if (!y) return y.error();
    auto writer = AudioWriter::create(out, {.sampleRateHz = x->info().sampleRateHz, .channels = 1, .format = format});
    if (!writer) return writer.error();
    AudioBuffer a, b;
    while (true) {
        const auto got = x->read(a, 16384), same = y->read(b, 16384);
        if (!got) return got.error();
        if (!same) return same.error();
        const std::size_t n = std::min(*got, *same);
        if (n == 0) return writer->commit();
        AudioBuffer difference(1, n);
        for (std::size_t i = 0; i < n; ++i)
            difference.channel(0)[i] = std::as_const(a).channel(channel)[i] - std::as_const(b).channel(0)[i];
        if (const auto wrote = writer->write(difference); !wrote) return wrote;
    }
}

} // namespace gristle::core
