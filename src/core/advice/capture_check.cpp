#include "core/advice/capture_check.h"

#include "core/advice/level_findings.h"
#include "core/signal/fft.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kBurstDb = 10.0;
constexpr std::size_t kLongestBurstHops = 15; // 150 ms: longer is playing or a handled cable
constexpr int kBurstsToTell = 2;
constexpr double kHeldShare = 0.1; // of the rest step, over which somebody played
constexpr double kFadingDb = 3.0;  // a part is played evenly within that from one third to the next
constexpr double kWrongChannelDb = 20.0;
constexpr double kTurnWorthDb = 3.0;

/// One channel of a file as hops of 10 ms, and as samples where they are wanted.
struct OneChannel {
    HopTrack hops;
    std::vector<float> samples;
};

Result<OneChannel> readChannel(const std::filesystem::path& file, std::size_t channel, bool keepSamples)
{
    auto reader = AudioReader::open(file);
    if (!reader) return reader.error();
    if (channel >= reader->info().channels)
        return Error{ErrorCode::OutOfRange,
                     file.filename().string() + ": it has no channel " + std::to_string(channel + 1),
                     "name the channel that the guitar is on"};
    OneChannel out{HopTrack(reader->info().sampleRateHz), {}};
    AudioBuffer block;
    while (true) {
        const auto got = reader->read(block, 16384);
        if (!got) return got.error();
        if (*got == 0) break;
        const auto x = std::as_const(block).channel(channel);
        out.hops.push(x);
        if (keepSamples) out.samples.insert(out.samples.end(), x.begin(), x.end());
    }
    out.hops.finish();
    return out;
}

/// What rises over the quiet of a rest step by kBurstDb: moments, and the part of the time that rises for longer.
struct Rises {
    int bursts = 0;
    double heldShare = 0.0;
};

Rises findRises(std::vector<double> powers)
{
    Rises out;
    if (powers.empty()) return out;
    auto sorted = powers;
    const auto quiet = sorted.begin() + long(sorted.size() / 10);
    std::ranges::nth_element(sorted, quiet);
    const double limit = *quiet * dbToPower(kBurstDb);
    powers.push_back(0.0); // ends a rise that reaches the end
    std::size_t length = 0, held = 0;
    for (const double power : powers) {
        if (power > limit) {
            ++length;
            continue;
        }
        if (length > kLongestBurstHops)
            held += length;
        else if (length > 0)
            ++out.bursts;
        length = 0;
    }
    out.heldShare = double(held) / double(powers.size() - 1);
    return out;
}

/// Power in 2 to 5 kHz over that in 0.2 to 1 kHz, over windows that lie whole in what plays.
std::optional<double> brightnessOf(std::span<const float> x, double rateHz, const std::vector<bool>& playing)
{
    constexpr std::size_t kWindow = 2048;
    RealFft fft(kWindow);
    double low = 0.0, high = 0.0;
    for (std::size_t at = 0; at + kWindow <= x.size(); at += kWindow) {
        const auto first = std::size_t(double(at) / rateHz / 0.01),
                   last = std::size_t(double(at + kWindow) / rateHz / 0.01);
        bool plays = last < playing.size();
        for (std::size_t h = first; plays && h <= last; ++h) plays = playing[h];
        if (!plays) continue;
        for (std::size_t i = 0; i < kWindow; ++i)
            fft.time()[i] = x[at + i] * float(0.5 - 0.5 * std::cos(2.0 * std::numbers::pi * double(i) / kWindow));
        fft.forward();
        for (std::size_t k = 1; k <= kWindow / 2; ++k) {
            const double hz = double(k) * rateHz / kWindow, power = double(std::norm(fft.spectrum()[k]));
            if (hz >= 200.0 && hz < 1000.0) low += power;
            if (hz >= 2000.0 && hz < 5000.0) high += power;
        }
    }
    return low > 0.0 && high > 0.0 ? std::optional(powerToDb(high / low)) : std::nullopt;
}

/// Level of the playing in the first third of the hops that play, less that in the last.
std::optional<double> fallOver(const std::vector<double>& powers, const std::vector<bool>& playing)
{
    std::vector<double> played;
    for (std::size_t i = 0; i < powers.size(); ++i)
        if (playing[i]) played.push_back(powers[i]);
    const std::size_t third = played.size() / 3;
    if (third < 100) return std::nullopt; // a second of playing in each
    const auto mean = [&](std::size_t from) {
        double sum = 0.0;
        for (std::size_t i = from; i < from + third; ++i) sum += played[i];
        return sum / double(third);
    };
    return powerToDb(mean(0) / mean(played.size() - third));
}

Finding make(Severity severity, const char* code, std::string title, std::string message, std::string remedy)
{
    return makeFinding(severity, code, "check", std::move(title), std::move(message), std::move(remedy));
}

void bar(Finding& f, double measured, double target, const char* unit, double low, double high)
{
    f.measured = measured;
    f.target = target;
    f.unit = unit;
    f.low = low;
    f.high = high;
}

/// What the other channels of the part say of the one that was chosen.
void judgeChannels(const CheckFiles& files, const FileMeasurement& play, std::vector<Finding>& out)
{
    if (play.channels.size() < 2) return;
    const auto own = play.channels[files.channel].level.rmsDbfs;
    for (std::size_t c = 0; c < play.channels.size(); ++c) {
        const auto other = play.channels[c].level.rmsDbfs;
        if (c == files.channel || !other || (own && *other - *own < kWrongChannelDb)) continue;
        out.push_back(make(Severity::Stop, "check.wrong_channel", "The guitar is on another input",
                           fmt::format("Input {} is {} dB louder than input {}, where the guitar is expected.", c + 1,
                                       own ? figureText(*other - *own, 0) : "far more", files.channel + 1),
                           fmt::format("Plug into input {}, or choose input {}", files.channel + 1, c + 1)));
    }
    if (const auto alike = chooseChannel(files.play, 0); alike && own)
        out.push_back(make(Severity::Note, "check.channels_alike", "All inputs carry the same",
                           "Every channel holds the same samples, so one is enough.", "Record one input"));
}

void judgeNoise(const CaptureCheck& c, std::vector<Finding>& out)
{
    if (!c.rested)
        out.push_back(make(Severity::Fix, "check.not_resting", "The strings did not rest",
                           "Something sounds in the first step, so noise and hum are not sure.",
                           "Lay the hand on all strings and take the first step again"));
    if (c.rested && c.bursts >= kBurstsToTell) {
        Finding f = make(Severity::Fix, "check.bursts", "Something bursts into the rest",
                         fmt::format("The noise rises by over {:.0f} dB {} times for moments: a telephone or a radio "
                                     "link does that.",
                                     kBurstDb, c.bursts),
                         "Take telephones out of pockets and off the amplifier, then take the first step again");
        bar(f, c.bursts, 0.0, "bursts", 0.0, std::max(5.0, c.bursts * 1.25));
        out.push_back(std::move(f));
    }
    if (c.turn) {
        const bool worth = c.turn->differenceDb >= kTurnWorthDb;
        Finding f = make(worth ? Severity::Fix : Severity::Note, "check.turn",
                         worth ? fmt::format("Turning saves {} dB of hum", figureText(c.turn->differenceDb, 0))
                               : "Turning changes little",
                         fmt::format("The hum was least, {} dBFS, at {:.1f} s of the turn and most, {} dBFS, at {:.1f} "
                                     "s.",
                                     figureText(c.turn->best.levelDbfs, 0), c.turn->best.timeS,
                                     figureText(c.turn->worst.levelDbfs, 0), c.turn->worst.timeS),
                         worth ? "Stand as you stood then" : "");
        bar(f, c.turn->differenceDb, 0.0, "dB", 0.0, std::max(12.0, c.turn->differenceDb * 1.25));
        f.targetLow = 0.0, f.targetHigh = kTurnWorthDb;
        out.push_back(std::move(f));
    }
}

} // namespace

Result<JudgedCheck> judgeCapture(const CheckFiles& files, const MeasureOptions& options, const Progress& progress)
{
    const auto part = [&](double from, double to) {
        return Progress{progress.stop, [&progress, from, to](double p) { progress.at(from + p * (to - from)); }};
    };
    const auto rest = measureFile(files.rest, options, part(0.0, 0.3));
    if (!rest) return rest.error();
    const auto play = measureFile(files.play, options, part(0.3, 0.7));
    if (!play) return play.error();
    const bool hasHardest = !files.hardest.empty();
    const auto hardest =
        hasHardest ? measureFile(files.hardest, options, part(0.7, 1.0)) : Result<FileMeasurement>(*play);
    if (!hardest) return hardest.error();
    for (const auto* m : {&*rest, &*play, &*hardest})
        if (files.channel >= m->channels.size())
            return Error{ErrorCode::OutOfRange,
                         std::filesystem::path(m->file).filename().string() + ": it has no channel " +
                             std::to_string(files.channel + 1),
                         "name the channel that the guitar is on"};
    const auto playHops = readChannel(files.play, files.channel, true),
               restHops = readChannel(files.rest, files.channel, false);
    if (!playHops) return playHops.error();
    if (!restHops) return restHops.error();

    // The part, with the peak of the hardest chord and the noise of the rest: judged as one take is.
    FileMeasurement together = *play;
    together.channels = {play->channels[files.channel]};
    ChannelMeasurement& c = together.channels.front();
    const ChannelMeasurement& hard = hardest->channels[files.channel];
    if (hard.truePeakDbtp) c.truePeakDbtp = std::max(c.truePeakDbtp.value_or(*hard.truePeakDbtp), *hard.truePeakDbtp);
    if (hasHardest) {
        c.level.clippedSamples += hard.level.clippedSamples;
        c.level.clipRunCount += hard.level.clipRunCount;
        if (c.level.clipRuns.empty()) c.level.clipRuns = hard.level.clipRuns;
        c.level.flatTopRuns += hard.level.flatTopRuns;
        if (hard.held.chance > c.held.chance) c.held = hard.held;
    }
    const NoiseResult& quiet = rest->channels[files.channel].noise;
    const auto powers = playHops->hops.powers();
    const auto playing =
        findPlaying(powers, quiet.floorDbfs ? std::optional(0.5 * dbToPower(*quiet.floorDbfs)) : std::nullopt);
    c.noise.floorDbfs = quiet.floorDbfs;
    c.noise.hum = quiet.hum;
    c.noise.snrDb.reset();
    double sum = 0.0, hops = 0.0;
    for (std::size_t i = 0; i < powers.size(); ++i)
        if (playing[i]) sum += powers[i], hops += 1.0;
    const auto played = hops > 0.0 ? aes17Dbfs(sum / hops) : std::nullopt;
    if (quiet.floorDbfs && played) c.noise.snrDb = *played - *quiet.floorDbfs;
    together.advice = adviseGain(together.channels, options.target);

    JudgedCheck out;
    CaptureCheck& check = out.check;
    if (c.vuTypical) check.averageDbfs = *c.vuTypical + options.referenceDbfs;
    check.peakDbtp = c.truePeakDbtp;
    if (c.truePeakDbtp) check.marginDb = -*c.truePeakDbtp;
    check.gainChangeDb = together.advice.gainChangeDb;
    if (check.marginDb && check.gainChangeDb) check.marginAfterDb = *check.marginDb - *check.gainChangeDb;
    check.heldByHeadroom = together.advice.heldByHeadroom;
    check.floorDbfs = quiet.floorDbfs;
    check.snrDb = c.noise.snrDb;
    check.hum = quiet.hum;
    const Rises rises = findRises(restHops->hops.powers());
    check.rested = quiet.floorDbfs && rises.heldShare <= kHeldShare;
    check.bursts = rises.bursts;
    check.fallDb = fallOver(powers, playing);
    check.brightnessDb = brightnessOf(playHops->samples, playHops->hops.rateHz(), playing);
    if (!files.turn.empty() && check.hum) {
        const auto turn = readChannel(files.turn, files.channel, true);
        if (!turn) return turn.error();
        check.turnTrace = humTrace(turn->samples, turn->hops.rateHz(), check.hum->mainsHz);
        if (!check.turnTrace.empty()) check.turn = humTurn(check.turnTrace);
    }
    out.findings = levelFindings(together, options);
    std::erase_if(out.findings, [](const Finding& f) { return f.code == "level.no_rest"; }); // said in our own words
    judgeNoise(check, out.findings);
    judgeChannels(files, *play, out.findings);
    if (check.fallDb && *check.fallDb > kFadingDb) {
        Finding f = make(Severity::Fix, "check.fading", "The level falls while you play",
                         fmt::format("The last third is {} dB softer than the first.", figureText(*check.fallDb)),
                         "If you played evenly, look at the battery of an active guitar and at the plugs");
        bar(f, *check.fallDb, 0.0, "dB", 0.0, std::max(12.0, *check.fallDb * 1.25));
        out.findings.push_back(std::move(f));
    }
    rank(out.findings);
    return out;
}

std::vector<Finding> dullFindings(std::optional<double> before, const std::string& when, std::optional<double> now,
                                  const std::vector<std::string>& changed)
{
    constexpr double kDullerDb = 6.0;
    if (!before || !now || *before - *now < kDullerDb) return {};
    std::string why = "The guitar's resonance is missing against its earlier check: a pad or the wrong input switch "
                      "does that, and so does a tone control that is turned back.";
    if (!changed.empty())
        why = fmt::format("It was played otherwise: {}. A pad would do it, too.", fmt::join(changed, "; "));
    Finding f = make(changed.empty() ? Severity::Fix : Severity::Note, "check.dull",
                     fmt::format("Duller than on {} by {} dB", when.substr(0, 10), figureText(*before - *now, 0)),
                     std::move(why), "Look at the pad and the high-impedance switch, then at the tone control");
    bar(f, *now, *before, "dB", std::min(-60.0, *now - 5.0), 0.0);
    return {f};
}

} // namespace gristle::core
