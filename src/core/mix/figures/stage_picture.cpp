#include "core/mix/figures/stage_picture.h"

#include "core/signal/fft.h"
#include "core/units/calibration.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <random>

namespace gristle::core {

namespace {

constexpr double kTransferHz = 110.0, kHarmonicsHz = 220.0, kSettleS = 0.5;
constexpr std::size_t kTransferPoints = 200, kParts = 41;
constexpr std::size_t kPeriod = 8192; // of the noise
constexpr double kFloorDb = -150.0, kEchoFloorDb = -80.0;

AudioBuffer mono(std::size_t frames) { return {1, frames}; }

double sizeOf(std::span<const float> x)
{
    double most = 0.0;
    for (const float v : x) most = std::max(most, std::abs(double(v)));
    return most;
}

double rms(std::span<const float> x)
{
    double squares = 0.0;
    for (const float v : x) squares += double(v) * double(v);
    return x.empty() ? 0.0 : std::sqrt(squares / double(x.size()));
}

/// Plays test signals through one stage.
struct Tester {
    const RigNode& node;
    const StageInput& input;
    const Progress& progress;
    double rate() const { return input.options.context.rateHz; }
    Result<AudioBuffer> play(const AudioBuffer& in) const
    {
        return playChain({node}, input.options, in, in.channel(0), progress);
    }
};

Outcome addTransfer(const Tester& t, StagePicture& out)
{
    const double period = t.rate() / kTransferHz;
    const auto settle = static_cast<std::size_t>(std::ceil(kSettleS * kTransferHz) * period);
    AudioBuffer in = mono(settle + static_cast<std::size_t>(period) + 2);
    for (std::size_t i = 0; i < in.frames(); ++i)
        in.channel(0)[i] = float(out.peakV * std::sin(2.0 * std::numbers::pi * double(i) / period));
    const auto played = t.play(in);
    if (!played) return played.error();
    for (std::size_t k = 0; k <= kTransferPoints; ++k) {
        const double at = double(settle) + period * double(k) / double(kTransferPoints);
        const auto i = static_cast<std::size_t>(at);
        const double part = at - double(i);
        const auto between = [&](std::span<const float> x) {
            return (1.0 - part) * double(x[i]) + part * double(x[std::min(i + 1, x.size() - 1)]);
        };
        out.transfer.push_back({between(in.channel(0)), between(played->channel(0))});
    }
    return Done{};
}

/// The linear response that comes nearest: lines of equal strength on every place of a transform, their phases drawn
/// anew a few times; what the stage adds to a line differs each time and is taken down by the mean. Source: Pintelon
/// and Schoukens, System Identification, best linear approximation.
Outcome addResponse(const Tester& t, StagePicture& out)
{
    constexpr int kDraws = 8;
    constexpr std::size_t kLines = kPeriod / 2;
    RealFft fft(kPeriod);
    std::mt19937 random(1); // the same each time
    std::uniform_real_distribution<float> angle(0.0f, 2.0f * std::numbers::pi_v<float>);
    std::vector<std::complex<double>> response(kLines);
    for (int draw = 0; draw < kDraws; ++draw) {
        AudioBuffer in = mono(2 * kPeriod);
        std::ranges::fill(fft.spectrum(), std::complex<float>{});
        for (std::size_t k = 1; k < kLines; ++k) fft.spectrum()[k] = std::polar(1.0f, angle(random));
        fft.inverse();
        const double scale = out.playingV / std::max(1e-30, rms(fft.time()));
        for (std::size_t i = 0; i < in.frames(); ++i) in.channel(0)[i] = float(scale * double(fft.time()[i % kPeriod]));
        const auto played = t.play(in);
        if (!played) return played.error();
        std::ranges::copy(in.channel(0).subspan(kPeriod), fft.time().begin());
        fft.forward();
        const std::vector<std::complex<double>> sent(fft.spectrum().begin(), fft.spectrum().end());
        std::ranges::copy(played->channel(0).subspan(kPeriod), fft.time().begin());
        fft.forward();
        for (std::size_t k = 1; k < kLines; ++k)
            response[k] += std::complex<double>(fft.spectrum()[k]) / sent[k] / double(kDraws);
    }
    const double line = double(kPeriod) / t.rate(), half = std::pow(2.0, 1.0 / 24.0);
    for (double hz = 30.0; hz < std::min(20000.0, 0.45 * t.rate()); hz *= half * half) {
        const auto from = std::max<std::size_t>(1, static_cast<std::size_t>(std::llround(hz / half * line)));
        const auto to = std::max(from, static_cast<std::size_t>(std::llround(hz * half * line)));
        double power = 0.0;
        for (std::size_t k = from; k <= to; ++k) power += std::norm(response[k]) / double(to - from + 1);
        out.hz.push_back(hz);
        out.responseDb.push_back(power > 0.0 ? std::max(kFloorDb, powerToDb(power)) : kFloorDb);
    }
    return Done{};
}

Outcome addHarmonics(const Tester& t, StagePicture& out)
{
    const auto settle = static_cast<std::size_t>(kSettleS * t.rate());
    // Whole periods: the sine's frequency gives way by a little.
    const auto periods = std::llround(kHarmonicsHz * double(kPeriod) / t.rate());
    AudioBuffer in = mono(settle + kPeriod);
    for (std::size_t i = 0; i < in.frames(); ++i)
        in.channel(0)[i] = float(std::numbers::sqrt2 * out.playingV *
                                 std::sin(2.0 * std::numbers::pi * double(i) * double(periods) / double(kPeriod)));
    const auto played = t.play(in);
    if (!played) return played.error();
    RealFft fft(kPeriod);
    std::ranges::copy(played->channel(0).subspan(settle), fft.time().begin());
    fft.forward();
    const auto line = [&](std::size_t k) {
        return double(std::abs(fft.spectrum()[k * static_cast<std::size_t>(periods)]));
    };
    for (std::size_t k = 2; k <= 10; ++k)
        out.harmonicsDb[k - 2] = k * static_cast<std::size_t>(periods) < kPeriod / 2 && line(1) > 0.0 && line(k) > 0.0
                                     ? std::max(kFloorDb, amplitudeToDb(line(k) / line(1)))
                                     : kFloorDb;
    return Done{};
}

Outcome addEchoes(const Tester& t, double echoS, StagePicture& out)
{
    AudioBuffer in = mono(static_cast<std::size_t>((0.05 + echoS) * t.rate()));
    const auto click = static_cast<std::size_t>(0.05 * t.rate());
    in.channel(0)[click] = float(out.peakV);
    const auto played = t.play(in);
    if (!played) return played.error();
    const double hop = StagePicture::kEchoHopS * t.rate();
    double most = 0.0;
    for (std::size_t k = 0; double(click) + double(k + 1) * hop <= double(in.frames()); ++k) {
        double high = 0.0;
        for (std::size_t c = 0; c < played->channels(); ++c)
            high = std::max(high,
                            sizeOf(played->channel(c).subspan(click + std::size_t(double(k) * hop), std::size_t(hop))));
        out.echoDb.push_back(high);
        most = std::max(most, high);
    }
    for (double& v : out.echoDb) v = v > 0.0 ? std::max(kEchoFloorDb, amplitudeToDb(v / most)) : kEchoFloorDb;
    return Done{};
}

/// Mean power by frequency over Hann windows that overlap by half, so that their sum is that of the samples.
std::vector<double> powerOf(std::span<const float> x)
{
    RealFft fft(kPeriod);
    std::vector<double> out(kPeriod / 2);
    std::size_t windows = 0;
    for (std::size_t at = 0; at + kPeriod <= x.size(); at += kPeriod / 2, ++windows) {
        for (std::size_t i = 0; i < kPeriod; ++i)
            fft.time()[i] =
                x[at + i] * float(0.5 - 0.5 * std::cos(2.0 * std::numbers::pi * double(i) / double(kPeriod)));
        fft.forward();
        for (std::size_t k = 0; k < out.size(); ++k) out[k] += double(std::norm(fft.spectrum()[k]));
    }
    // Both halves of the spectrum; a Hann window keeps 3/8 of the power.
    const double scale = 2.0 / (0.375 * double(kPeriod) * double(kPeriod) * double(std::max<std::size_t>(1, windows)));
    for (double& v : out) v *= scale;
    return out;
}

void addThirds(std::span<const float> before, std::span<const float> after, double rateHz, StagePicture& out)
{
    const auto first = powerOf(before), second = powerOf(after);
    const double line = double(kPeriod) / rateHz, edge = std::pow(2.0, 1.0 / 6.0);
    for (int third = -14; third <= 13; ++third) { // 39 Hz to 20 kHz
        const double hz = 1000.0 * std::pow(2.0, double(third) / 3.0);
        if (hz * edge > 0.5 * rateHz) break;
        const auto from = std::size_t(std::ceil(hz / edge * line)), to = std::size_t(std::ceil(hz * edge * line));
        const auto level = [&](const std::vector<double>& power) {
            double sum = 0.0;
            for (std::size_t k = from; k < std::min(to, power.size()); ++k) sum += power[k];
            return sum > 0.0 ? std::max(kFloorDb, powerToDb(sum / (kDbuVoltsRms * kDbuVoltsRms))) : kFloorDb;
        };
        out.thirds.push_back({hz, level(first), level(second)});
    }
}

} // namespace

Result<StagePicture> stagePicture(const LayerRecipe& recipe, std::size_t stage, double echoS, const Progress& progress)
{
    const RigChain& chain = recipe.rig.chain;
    if (stage >= chain.size()) return Error{ErrorCode::Usage, "picture: there is no such stage", ""};
    const Progress quiet{progress.stop, nullptr};
    const auto input = stageInput(recipe, stage, quiet);
    if (!input) return input.error();
    progress.at(0.3);
    StagePicture out;
    const AudioBuffer before = heard(*input, input->before);
    const auto x = before.channel(0);
    out.playingV = rms(x);
    out.peakV = sizeOf(x);
    if (out.peakV <= 0.0)
        return Error{ErrorCode::Usage, "picture: nothing is played on this loop", "choose a loop with playing in it"};
    out.lies.assign(kParts, 0.0);
    for (const float v : x) {
        const double place = (double(v) / out.peakV + 1.0) / 2.0 * double(kParts);
        out.lies[std::min(kParts - 1, static_cast<std::size_t>(place))] += 1.0 / double(x.size());
    }

    const auto played = playChain({chain[stage]}, input->options, input->before, input->di, quiet);
    if (!played) return played.error();
    const AudioBuffer after = heard(*input, *played);
    const auto hop = static_cast<std::size_t>(StagePicture::kHopS * input->options.context.rateHz);
    std::vector<double> levels;
    for (std::size_t at = 0; at + hop <= x.size(); at += hop) levels.push_back(rms(x.subspan(at, hop)));
    const double loudest = levels.empty() ? 0.0 : std::ranges::max(levels);
    for (std::size_t k = 0; k < levels.size(); ++k) {
        const double level = rms(after.channel(0).subspan(k * hop, hop));
        out.gainDb.push_back(levels[k] > 1e-3 * loudest
                                 ? std::optional(std::max(kFloorDb, amplitudeToDb(std::max(level, 1e-12) / levels[k])))
                                 : std::nullopt);
    }
    addThirds(x, after.channel(0), input->options.context.rateHz, out);
    out.notes = pitchesOver(x, input->options.context.rateHz);
    progress.at(0.5);
    const Tester tester{chain[stage], *input, quiet};
    for (const auto& add : {&addTransfer, &addResponse, &addHarmonics})
        if (const auto added = add(tester, out); !added) return added.error();
    progress.at(0.8);
    if (const auto added = addEchoes(tester, echoS, out); !added) return added.error();
    return out;
}

} // namespace gristle::core
