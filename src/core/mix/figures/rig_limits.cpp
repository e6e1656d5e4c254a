#include "core/mix/figures/rig_limits.h"

#include "core/mix/figures/stage_run.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <fmt/format.h>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kHz = 220.0, kFromDbu = -59.0, kToDbu = 40.0, kStepDb = 3.0, kStepS = 0.2, kHeardS = 0.1;
constexpr double kBentDb = -20.0, kLeastDbu = -100.0;
constexpr double kHeldDb = 0.2, kHeldOverDb = 12.0, kHeldUnderDb = 1.0;
constexpr double kMostS = 20.0; // of playing

double dbuOf(double voltsRms) { return voltsRms > 0.0 ? std::max(-200.0, voltsRmsToDbu(voltsRms)) : -200.0; }

/// RMS of the louder channel, from a frame on.
double loudestRms(const AudioBuffer& x, std::size_t from)
{
    double most = 0.0;
    for (std::size_t c = 0; c < x.channels(); ++c) {
        double squares = 0.0;
        for (const float v : x.channel(c).subspan(from)) squares += double(v) * double(v);
        most = std::max(most, squares / double(std::max<std::size_t>(1, x.frames() - from)));
    }
    return std::sqrt(most);
}

double peakOf(const AudioBuffer& x, std::size_t from)
{
    double most = 0.0;
    for (std::size_t c = 0; c < x.channels(); ++c)
        for (const float v : x.channel(c).subspan(from)) most = std::max(most, std::abs(double(v)));
    return most;
}

/// RMS of a sine in some samples.
double toneRms(std::span<const float> x, double hz, double rate)
{
    std::complex<double> sum;
    const auto turn = std::polar(1.0, -2.0 * std::numbers::pi * hz / rate);
    std::complex<double> at = 1.0;
    for (const float v : x) sum += double(v) * at, at *= turn;
    return std::numbers::sqrt2 * std::abs(sum) / double(x.size());
}

/// One level of the sine, as it comes out.
struct Heard {
    double outDbu, harmonicsDb;
};
Heard hear(const AudioBuffer& played, std::size_t from, std::size_t to, double rate)
{
    Heard out{-200.0, -200.0};
    for (std::size_t c = 0; c < played.channels(); ++c) {
        const auto x = played.channel(c).subspan(from, to - from);
        const double first = toneRms(x, kHz, rate);
        double others = 0.0;
        for (int h = 2; h <= 10; ++h) others += std::pow(toneRms(x, kHz * h, rate), 2.0);
        if (dbuOf(first) > std::max(out.outDbu, kLeastDbu))
            out = {dbuOf(first), others > 0.0 ? powerToDb(others / (first * first)) : -200.0};
    }
    return out;
}

double levelAt(std::size_t step) { return kFromDbu + kStepDb * double(step); }
/// Where between two values, 0 to 1, a third one is passed.
double passedAt(double before, double after, double at)
{
    return after == before ? 0.0 : std::clamp((at - before) / (after - before), 0.0, 1.0);
}

std::optional<Ceiling> ceilingIn(const std::vector<Heard>& steps)
{
    const auto between = [&](std::size_t i, double part) { // the step before it and itself
        if (i == 0) return Ceiling{levelAt(0), steps[0].outDbu};
        return Ceiling{levelAt(i - 1) + part * kStepDb, std::lerp(steps[i - 1].outDbu, steps[i].outDbu, part)};
    };
    std::optional<Ceiling> bent, held;
    for (std::size_t i = 0; i + 1 < steps.size() && !bent; ++i) // it stays so, too
        if (steps[i].harmonicsDb >= kBentDb && steps[i + 1].harmonicsDb >= kBentDb)
            bent = between(i, i == 0 ? 0.0 : passedAt(steps[i - 1].harmonicsDb, steps[i].harmonicsDb, kBentDb));
    const double most = steps.back().outDbu,
                 under = steps[steps.size() - 1 - std::size_t(kHeldOverDb / kStepDb)].outDbu;
    if (most > kLeastDbu && most - under < kHeldDb)
        for (std::size_t i = steps.size() - 1; i > 0 && !held; --i) // up in a straight line from where it still rises
            if (steps[i - 1].outDbu < most - kHeldUnderDb)
                held = Ceiling{levelAt(i - 1) + most - steps[i - 1].outDbu, most};
    return bent && held ? (bent->inDbu < held->inDbu ? bent : held) : bent ? bent : held;
}

/// What only filters, repeats or shows, has none.
bool hasCeiling(const RigNode& node)
{
    const NodeType* type = node.bypass || node.isSplit() ? nullptr : findNodeType(node.type);
    return type && (type->character == Character::Bends || type->character == Character::Follows);
}

/// Noise for a stretch out of a short one, there and back again, so that it goes on without a step.
std::vector<float> longNoise(std::span<const float> rest, std::size_t frames)
{
    std::vector<float> out(frames);
    for (std::size_t i = 0; i < frames; ++i) {
        const std::size_t at = i % (2 * rest.size());
        out[i] = rest[at < rest.size() ? at : 2 * rest.size() - 1 - at];
    }
    return out;
}

} // namespace

Result<std::optional<Ceiling>> findCeiling(const RigNode& node, const CompileOptions& options, const Progress& progress)
{
    const double rate = options.context.rateHz;
    const auto steps = static_cast<std::size_t>((kToDbu - kFromDbu) / kStepDb) + 1;
    const auto step = static_cast<std::size_t>(std::lround(kStepS * rate));
    const auto heard = static_cast<std::size_t>(std::lround(kHeardS * rate));
    AudioBuffer in(1, steps * step);
    for (std::size_t i = 0; i < in.frames(); ++i) {
        const double peak = kDbuVoltsRms * std::numbers::sqrt2 * dbToAmplitude(levelAt(i / step));
        in.channel(0)[i] = float(peak * std::sin(2.0 * std::numbers::pi * kHz * double(i) / rate));
    }
    const auto played = playChain({node}, options, in, in.channel(0), progress);
    if (!played) return played.error();
    std::vector<Heard> out;
    for (std::size_t i = 1; i <= steps; ++i) out.push_back(hear(*played, i * step - heard, i * step, rate));
    return ceilingIn(out);
}

Result<std::optional<Ceiling>> KnownCeilings::find(const RigNode& node, const CompileOptions& options,
                                                   const Progress& progress)
{
    constexpr std::size_t kMost = 500;
    const std::string what = fmt::format("{} {} {} {}", int(options.effort), options.context.rateHz,
                                         options.context.fullScaleV, recallLine({node}));
    {
        const std::lock_guard lock(mutex_);
        if (const auto at = found_.find(what); at != found_.end()) return at->second;
    }
    auto ceiling = findCeiling(node, options, progress);
    if (!ceiling) return ceiling;
    const std::lock_guard lock(mutex_);
    if (found_.size() >= kMost) found_.clear();
    found_[what] = *ceiling;
    return ceiling;
}

Result<RigLimits> rigLimits(const LayerRecipe& recipe, double restFromS, double restToS, KnownCeilings& known,
                            const Progress& progress)
{
    LayerRecipe short_ = recipe;
    if (short_.endS > short_.startS) short_.endS = std::min(short_.endS, short_.startS + kMostS);
    const auto input = stageInput(short_, 0, progress);
    if (!input) return input.error();
    AudioBuffer with = input->before, without = input->before;
    const bool isNoisy = restToS > restFromS && with.channels() == 1;
    if (isNoisy) {
        LayerRecipe rest = recipe;
        rest.startS = restFromS, rest.endS = restToS;
        const auto noise = stageInput(rest, 0, progress);
        if (!noise) return noise.error();
        const auto more = longNoise(std::span(noise->di).subspan(noise->preroll), with.frames());
        for (std::size_t i = 0; i < more.size(); ++i) with.channel(0)[i] += more[i];
    }
    const auto noiseDbu = [&]() -> std::optional<double> {
        if (!isNoisy) return std::nullopt;
        AudioBuffer difference = with;
        for (std::size_t c = 0; c < difference.channels(); ++c)
            for (std::size_t i = 0; i < difference.frames(); ++i) difference.channel(c)[i] -= without.channel(c)[i];
        return dbuOf(loudestRms(difference, input->preroll));
    };
    const auto peakDbu = [&] { return dbuOf(peakOf(without, input->preroll) / std::numbers::sqrt2); };

    RigLimits out;
    out.outputCeilingDbu = recipe.output.dbuAtFullScale;
    out.stages.push_back({recipe.input.dbuAtFullScale, recipe.input.dbuAtFullScale - peakDbu(), noiseDbu()});
    for (std::size_t i = 0; i < recipe.rig.chain.size(); ++i) {
        const RigNode& node = recipe.rig.chain[i];
        StageLimit limit;
        if (hasCeiling(node)) {
            const auto ceiling = known.find(node, input->options, progress);
            if (!ceiling) return ceiling.error();
            if (*ceiling) limit.ceilingDbu = (*ceiling)->outDbu, limit.roomDb = (*ceiling)->inDbu - peakDbu();
        }
        for (AudioBuffer* x : {&without, &with}) {
            if (x == &with && !isNoisy) break;
            auto played = playChain({node}, input->options, *x, input->di, progress);
            if (!played) return played.error();
            *x = std::move(*played);
        }
        limit.noiseDbu = noiseDbu();
        out.stages.push_back(limit);
        progress.at(double(i + 1) / double(recipe.rig.chain.size()));
    }
    return out;
}

} // namespace gristle::core
