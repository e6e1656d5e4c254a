#include "core/mix/render/layer_source.h"

#include "core/audio/audio_reader.h"
#include "core/audio/resampler.h"
#include "core/impulse/loudspeaker_model.h"
#include "core/mix/render/take_reader.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr std::size_t kRead = 4096, kBlock = 32 * kRead; // so many slices that two cores have enough to do
constexpr std::size_t kLongBlock = 10'000'000;           // frames, for stages that are quicker with them; some 160 MB
constexpr std::size_t kLongTailS = 30;
constexpr double kPrerollS = 2.0;
constexpr double kWhole = 1e-6;        // parts of a sample that are none
constexpr double kDraftPrerollS = 0.5; // figures on the screen bear that an echo before is missing

/// The rig, before it what is left of a move, and the polarity.
RigDocument withRest(const LayerRecipe& recipe, double laterS)
{
    RigDocument out = recipe.rig;
    const auto put = [&](const char* type, const ParameterValues& values) {
        RigNode node;
        node.type = type;
        node.values = values;
        out.chain.insert(out.chain.begin(), node);
    };
    if (recipe.isInverted) put("polarity", {});
    if (laterS > 0.0) put("shift", {{"by", 1000.0 * laterS}});
    return out;
}

/// The impulses in place, read where they are files.
Result<std::map<std::string, HeldImpulse>> held(const std::vector<ImpulseInPlace>& impulses)
{
    std::map<std::string, HeldImpulse> out;
    for (const ImpulseInPlace& one : impulses) {
        auto recording = one.recording;
        if (!recording) {
            auto read = readRecording(one.file);
            if (!read) return read.error();
            recording = std::make_shared<const Recording>(std::move(*read));
        }
        out[one.name] = {recording, matchedGainDb(*recording)};
    }
    return out;
}

/// One side of a stereo recipe.
LayerRecipe sideOf(const LayerRecipe& recipe, int channelFromOne)
{
    LayerRecipe out = recipe;
    out.isStereo = false;
    out.channelFromOne = channelFromOne;
    for (PieceRecipe& piece : out.pieces) piece.channelFromOne = channelFromOne;
    return out;
}

} // namespace

Result<TakeReader> openTake(const LayerRecipe& recipe)
{
    if (recipe.isStereo) return openTake(sideOf(recipe, 1));
    return recipe.pieces.empty() ? TakeReader::open(recipe.file, recipe.channelFromOne)
                                 : TakeReader::join(recipe.pieces);
}

struct LayerSource::State {
    TakeReader reader;
    CompiledRig rig;
    int rate;
    std::optional<Resampler> resampler;
    double inFullScale, outFullScale;
    std::int64_t silentLeft = 0; ///< frames before the file's first
    std::int64_t readLeft;       ///< frames of the file still to be read
    std::int64_t total;          ///< frames that come out
    std::int64_t pulled = 0;
    std::int64_t toDrop; ///< latency and pre-roll
    std::size_t channelsOut;
    bool ended = false; ///< the file is used up; silence follows
    std::vector<float> read;
    std::vector<float> queue;                ///< at the output rate, before the rig
    std::array<std::vector<float>, 2> block; ///< after the rig
    std::size_t blockAt = 0;                 ///< what of it is not yet pulled

    State(TakeReader r, CompiledRig compiled, const LayerRecipe& recipe)
        : reader(std::move(r)), rig(std::move(compiled)),
          rate(recipe.rateHz > 0 ? recipe.rateHz : reader.info().sampleRateHz),
          inFullScale(recipe.input.fullScaleVolts()), outFullScale(recipe.output.fullScaleVolts()),
          channelsOut(rig.outputChannels())
    {
        const int own = reader.info().sampleRateHz;
        if (own != rate) resampler.emplace(own, rate);
    }

    /// Makes sure that `frames` frames stand in the queue, silence after the file's end.
    Outcome fill(std::size_t frames)
    {
        queue.reserve(frames + kRead);
        while (queue.size() < frames && !ended) {
            const bool isBefore = silentLeft > 0;
            const auto want = static_cast<std::size_t>(std::min<std::int64_t>(kRead, isBefore ? silentLeft : readLeft));
            read.clear();
            if (isBefore)
                read.resize(want, 0.0f);
            else if (want > 0)
                if (const auto result = reader.read(read, want); !result) return result.error();
            const std::size_t got = read.size();
            (isBefore ? silentLeft : readLeft) -= std::int64_t(got);
            if (!resampler)
                queue.insert(queue.end(), read.begin(), read.end());
            else if (got > 0)
                resampler->push(read, queue);
            if (got == 0 || (silentLeft == 0 && readLeft == 0)) {
                if (resampler) resampler->finish(queue);
                ended = true;
            }
        }
        if (queue.size() < frames) queue.resize(frames, 0.0f);
        return Done{};
    }

    /// The next block through the rig, its start cut off where that is not heard.
    Outcome renderBlock()
    {
        const std::int64_t left = toDrop + total - pulled;
        // Long blocks of one length: a short one at the end would take longer than its share.
        const auto most = std::int64_t(rig.maxBlock()), blocks = std::max<std::int64_t>(1, (left + most - 1) / most);
        const auto frames =
            static_cast<std::size_t>(most > std::int64_t(kBlock) ? (left + blocks - 1) / blocks : std::min(left, most));
        // One room for what is read and what comes out: a long block wants much.
        block[0].assign(queue.begin(), queue.end());
        queue.swap(block[0]);
        if (const auto filled = fill(frames); !filled) return filled;
        queue.swap(block[0]);
        queue.assign(block[0].begin() + long(frames), block[0].end());
        for (auto& side : block) side.resize(frames);
        const auto in = static_cast<float>(inFullScale);
        for (float& v : block[0]) v *= in;
        AudioBlock all{{block[0].data(), block[1].data()}, 1, frames};
        rig.process(all);
        const auto out = static_cast<float>(1.0 / outFullScale);
        for (std::size_t c = 0; c < channelsOut; ++c)
            for (float& v : block[c]) v *= out;
        blockAt = static_cast<std::size_t>(std::min<std::int64_t>(toDrop, std::int64_t(frames)));
        toDrop -= std::int64_t(blockAt);
        return Done{};
    }
};

LayerSource::LayerSource(std::unique_ptr<State> state) : state_(std::move(state)) {}
LayerSource::LayerSource(LayerSource&&) noexcept = default;
LayerSource& LayerSource::operator=(LayerSource&&) noexcept = default;
LayerSource::~LayerSource() = default;

Result<LayerSource> LayerSource::openBoth(const LayerRecipe& recipe)
{
    auto left = open(sideOf(recipe, 1));
    if (!left) return left.error();
    auto right = open(sideOf(recipe, 2));
    if (!right) return right.error();
    if (left->channels() != 1)
        return Error{ErrorCode::Unsupported, recipe.name + ": a stereo take goes through a rig that makes stereo",
                     "take a mono rig, or put the rig on a bus"};
    left->right_ = std::make_unique<LayerSource>(std::move(*right));
    return left;
}

Result<LayerSource> LayerSource::open(const LayerRecipe& recipe)
{
    if (recipe.isStereo) return openBoth(recipe);
    auto reader = openTake(recipe);
    if (!reader) return reader.error();
    const int rate = recipe.rateHz > 0 ? recipe.rateHz : reader->info().sampleRateHz;
    CompileOptions options;
    options.context = recipe.context;
    auto impulses = held(recipe.impulses);
    if (!impulses) return impulses.error();
    options.context.held = std::move(*impulses);
    options.context.rateHz = rate;
    options.context.fullScaleV = recipe.input.fullScaleVolts();
    options.maxBlock = kBlock;
    const auto file = static_cast<std::size_t>(double(reader->info().frames) * rate / reader->info().sampleRateHz);
    options.longBlock = std::min(kLongBlock, file + kLongTailS * std::size_t(rate)); // no room that is not wanted
    options.allowMissing = recipe.allowMissing;
    options.effort = recipe.effort;
    const int own = reader->info().sampleRateHz;
    // In whole frames, a little too far; what is whole but for rounding is whole.
    const double exact = recipe.earlierS * own, nearest = std::round(exact);
    const bool isWhole = std::abs(exact - nearest) < kWhole;
    const auto moved = std::int64_t(isWhole ? nearest : std::ceil(exact));
    auto rig = CompiledRig::compile(withRest(recipe, isWhole ? 0.0 : double(moved) / own - recipe.earlierS), options);
    if (!rig) return rig.error();

    // Frames of the take as it is heard: moved, so that frame 0 may lie within the file or before it.
    const std::int64_t all = std::max<std::int64_t>(0, reader->info().frames - moved);
    const auto first = std::clamp<std::int64_t>(std::llround(recipe.startS * own), 0, all);
    const auto last = recipe.endS < 0.0 ? all : std::clamp<std::int64_t>(std::llround(recipe.endS * own), first, all);
    const std::int64_t from = std::max<std::int64_t>(
        0, first - std::llround((recipe.effort == Effort::Draft ? kDraftPrerollS : kPrerollS) * own));
    auto state = std::make_unique<State>(std::move(*reader), std::move(*rig), recipe);
    if (const std::int64_t inFile = std::max<std::int64_t>(0, from + moved); inFile > 0)
        if (const auto wound = state->reader.seek(std::min(inFile, state->reader.info().frames)); !wound)
            return wound.error();
    const double tailS = recipe.tailS >= 0.0 ? recipe.tailS : recipe.endS < 0.0 ? state->rig.tailSeconds() : 0.0;
    const auto atRate = [&](std::int64_t frames) { return std::llround(double(frames) * rate / own); };
    // What the latency holds back at the end is what follows there, not silence.
    const auto ahead = std::llround(double(state->rig.latency()) * own / rate) + own / 10;
    state->silentLeft = std::min(all, std::max<std::int64_t>(0, -moved - from));
    state->readLeft = std::max<std::int64_t>(0, std::min<std::int64_t>(recipe.endS < 0.0 ? last : last + ahead, all) -
                                                    from - state->silentLeft);
    state->rig.measureOver(atRate(first - from), atRate(last - first));
    state->total = atRate(last - first) + std::llround(std::ceil(tailS * rate));
    state->toDrop = std::int64_t(state->rig.latency()) + atRate(first - from);
    return LayerSource(std::move(state));
}

int LayerSource::rateHz() const noexcept { return state_->rate; }
std::size_t LayerSource::channels() const noexcept { return right_ ? 2 : state_->channelsOut; }
std::int64_t LayerSource::frames() const noexcept { return state_->total; }
std::size_t LayerSource::latency() const noexcept { return state_->rig.latency(); }
const CompiledRig& LayerSource::rig() const noexcept { return state_->rig; }
double LayerSource::inputFullScaleVolts() const noexcept { return state_->inFullScale; }
const AudioInfo& LayerSource::info() const noexcept { return state_->reader.info(); }

Result<std::size_t> LayerSource::pull(AudioBuffer& out, std::size_t frames)
{
    if (!right_) return pullOwn(out, frames);
    std::size_t channel = 0;
    for (LayerSource* const side : {this, right_.get()}) {
        const auto got = side->pullOwn(side_, frames);
        if (!got) return got;
        if (out.channels() != 2) out = AudioBuffer(2, *got);
        out.resize(*got);
        std::ranges::copy(side_.channel(0), out.channel(channel++).begin());
    }
    return out.frames();
}

Result<std::size_t> LayerSource::pullOwn(AudioBuffer& out, std::size_t frames)
{
    State& s = *state_;
    const auto want = static_cast<std::size_t>(std::min<std::int64_t>(std::int64_t(frames), s.total - s.pulled));
    if (out.channels() != s.channelsOut) out = AudioBuffer(s.channelsOut, want);
    out.resize(want);
    for (std::size_t made = 0; made < want;) {
        while (s.blockAt == s.block[0].size())
            if (const auto rendered = s.renderBlock(); !rendered) return rendered.error();
        const std::size_t take = std::min(want - made, s.block[0].size() - s.blockAt);
        for (std::size_t c = 0; c < s.channelsOut; ++c)
            std::copy_n(s.block[c].begin() + long(s.blockAt), take, out.channel(c).begin() + long(made));
        s.blockAt += take;
        s.pulled += std::int64_t(take);
        made += take;
    }
    return want;
}

} // namespace gristle::core
