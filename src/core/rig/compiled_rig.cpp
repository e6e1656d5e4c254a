#include "core/rig/compiled_rig.h"

#include "core/rig/stage_scheduler.h"
#include "core/units/decibels.h"
#include "core/units/no_denormals.h"
#include "core/units/vectorised.h"

#include <algorithm>
#include <cstring>
#include <fmt/format.h>
#include <functional>
#include <thread>

namespace gristle::core {

namespace {

/// A delay of whole frames that lines lanes up.
class WholeDelay {
public:
    void prepare(std::size_t frames) { line_.assign(frames, 0.0f), at_ = 0; }
    void reset() noexcept { std::ranges::fill(line_, 0.0f), at_ = 0; }
    void process(float* x, std::size_t frames) noexcept
    {
        if (line_.empty()) return;
        for (std::size_t i = 0; i < frames; ++i) {
            std::swap(line_[at_], x[i]);
            if (++at_ == line_.size()) at_ = 0;
        }
    }

private:
    std::vector<float> line_;
    std::size_t at_ = 0;
};

struct Stage {
    std::unique_ptr<NodeProcessor> processor;
    const void* kind = nullptr; ///< what it is: two stages of one kind have processors of one type
    std::size_t channelsOut = 1;
};
constexpr char kThrough = 0, kSplit = 1; // their places are kinds of their own

/// Looks at what goes into and comes out of the stages of a chain. Each stage by one thread at a time, in order.
struct Watch {
    virtual ~Watch() = default;
    /// @param at  of the block's first frame in the block that the chain was given
    virtual void before(std::size_t stage, const AudioBlock& block, std::size_t at) noexcept = 0;
    virtual void after(std::size_t stage, const AudioBlock& block, std::size_t at) noexcept = 0;
};

/// A chain of processors: itself one, so that lanes nest to any depth.
class Chain final : public NodeProcessor {
public:
    std::vector<Stage> stages;
    Watch* watch = nullptr;

    void prepare(const PrepareSpec& spec) override
    {
        PrepareSpec own = spec;
        latency_ = 0;
        isLive_ = spec.live;
        channelsIn_ = spec.channels;
        for (Stage& stage : stages) {
            own.maxBlock = stage.processor->takesLong() ? spec.maxBlock : std::min(spec.maxBlock, kSlice);
            stage.processor->prepare(own);
            latency_ += stage.processor->latency();
            own.diLate = spec.diLate + latency_;
            own.channels = stage.channelsOut = stage.processor->outputChannels(own.channels);
        }
    }
    void process(AudioBlock& block) noexcept override
    {
        constexpr std::size_t kWorthSharing = 8;
        const std::size_t slices = (block.frames + kSlice - 1) / kSlice;
        if (!isLive_ && slices >= kWorthSharing && stages.size() > 1 && std::thread::hardware_concurrency() > 1)
            playShared(block, slices);
        else
            playInTurns(block, slices);
        block.channels = channelsBefore(stages.size());
    }
    bool takesLong() const noexcept override
    {
        return std::ranges::any_of(stages, [](const Stage& stage) { return stage.processor->takesLong(); });
    }
    void reset() noexcept override
    {
        for (Stage& stage : stages) stage.processor->reset();
    }
    /// Stages of one kind find each other in order; what stands between was put in or taken out.
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Chain&>(other).stages;
        std::size_t from = 0;
        for (Stage& stage : stages)
            for (std::size_t k = from; k < before.size(); ++k)
                if (before[k].kind == stage.kind) {
                    stage.processor->takeOver(*before[k].processor);
                    from = k + 1;
                    break;
                }
    }
    std::size_t outputChannels(std::size_t in) const noexcept override
    {
        for (const Stage& stage : stages) in = stage.processor->outputChannels(in);
        return in;
    }
    std::size_t latency() const noexcept override { return latency_; }
    double tailSeconds() const noexcept override
    {
        double tail = 0.0;
        for (const Stage& stage : stages) tail += stage.processor->tailSeconds();
        return tail;
    }
    bool ranAway() const noexcept override
    {
        return std::ranges::any_of(stages, [](const Stage& stage) { return stage.processor->ranAway(); });
    }

private:
    std::size_t channelsBefore(std::size_t stage) const noexcept
    {
        return stage == 0 ? channelsIn_ : stages[stage - 1].channelsOut;
    }
    AudioBlock partOf(std::size_t stage, const AudioBlock& block, std::size_t at, std::size_t frames) const noexcept
    {
        AudioBlock part{{}, channelsBefore(stage), frames, block.di ? block.di + at : nullptr};
        for (std::size_t c = 0; c < 2; ++c) part.channel[c] = block.channel[c] ? block.channel[c] + at : nullptr;
        return part;
    }
    /// One stage over a part of a block.
    void play(std::size_t stage, const AudioBlock& block, std::size_t at, std::size_t frames) noexcept
    {
        AudioBlock part = partOf(stage, block, at, frames);
        if (watch) watch->before(stage, part, at);
        stages[stage].processor->process(part);
        if (watch) watch->after(stage, part, at);
    }
    /// Slice by slice, but for stages that take a whole block.
    void playInTurns(const AudioBlock& block, std::size_t slices) noexcept
    {
        for (std::size_t first = 0, end = 0; first < stages.size(); first = end) {
            while (end < stages.size() && !stages[end].processor->takesLong()) ++end;
            for (std::size_t slice = 0; slice < slices; ++slice)
                for (std::size_t stage = first; stage < end; ++stage)
                    play(stage, block, slice * kSlice, std::min(kSlice, block.frames - slice * kSlice));
            if (end == first) play(end++, block, 0, block.frames);
        }
    }
    /// By two threads, which take what is there to do of as many stages as can be played beside each other.
    void playShared(const AudioBlock& block, std::size_t slices) noexcept
    {
        std::vector<Run> runs;
        try { // all that needs memory comes before the first sample
            for (std::size_t stage = 0; stage < stages.size(); ++stage) {
                Run& run = runs.emplace_back();
                while (stage < stages.size() && addWork(stage, block, run.work)) ++stage;
                run.wholeStage = stage;
                std::vector<StageScheduler::Stage> steps;
                for (const Work& work : run.work) steps.push_back(work.steps);
                run.scheduler = std::make_unique<StageScheduler>(std::move(steps));
            }
        } catch (const std::bad_alloc&) {
            return playInTurns(block, slices);
        }
        for (const Run& run : runs) {
            play(run);
            if (run.wholeStage < stages.size()) play(run.wholeStage, block, 0, block.frames);
        }
    }
    /// What is done with a block, step by step.
    struct Work {
        StageScheduler::Stage steps;
        std::function<void(std::size_t from, std::size_t to, std::size_t step)> play;
    };
    /// Stages that are played beside each other, and the one after them, which takes the whole block.
    struct Run {
        std::vector<Work> work;
        std::unique_ptr<StageScheduler> scheduler;
        std::size_t wholeStage = 0;
    };
    /// False where the stage is to be given the whole block at once.
    bool addWork(std::size_t stage, const AudioBlock& block, std::vector<Work>& run)
    {
        NodeProcessor& processor = *stages[stage].processor;
        StageScheduler::Stage slices;
        for (std::size_t at = 0; at < block.frames; at += kSlice)
            slices.ends.push_back(std::min(at + kSlice, block.frames));
        if (!processor.takesLong()) {
            run.push_back({slices, [this, stage, block](std::size_t from, std::size_t to, std::size_t) {
                               play(stage, block, from, to - from);
                           }});
            return true;
        }
        const StageScheduler::Stage parts{processor.beginParts(partOf(stage, block, 0, block.frames)), false};
        if (parts.ends.empty()) return false;
        run.push_back({slices, [this, stage, block, &processor](std::size_t from, std::size_t to, std::size_t) {
                           if (watch) watch->before(stage, partOf(stage, block, from, to - from), from);
                           processor.takeIn(from, to - from);
                       }});
        run.push_back({{parts.ends, true},
                       [&processor](std::size_t, std::size_t, std::size_t step) { processor.playPart(step); }});
        run.push_back({parts, [this, stage, block, &processor](std::size_t from, std::size_t to, std::size_t step) {
                           processor.handOut(step);
                           if (watch) watch->after(stage, partOf(stage, block, from, to - from), from);
                       }});
        return true;
    }
    static void play(const Run& run) noexcept
    {
        if (run.work.empty()) return;
        const auto work = [&run] {
            while (const auto task = run.scheduler->take()) {
                const Work& of = run.work[task->stage];
                of.play(task->step > 0 ? of.steps.ends[task->step - 1] : 0, of.steps.ends[task->step], task->step);
                run.scheduler->finish(*task);
            }
        };
        std::jthread helper;
        try {
            helper = std::jthread(work);
        } catch (const std::exception&) { // the system gives no more threads or memory: one does it all
        }
        work();
    }

    std::size_t latency_ = 0, channelsIn_ = 1;
    bool isLive_ = false;
};

double sumSquares(const float* x, std::size_t count, float& peak) noexcept;

/// Sends its input through every lane and sums what comes out; a mono lane counts on both sides of a stereo sum. Apart,
/// two lanes are two outputs, each a channel; of a lane with two channels their mean.
class Lanes final : public NodeProcessor {
public:
    Lanes(std::vector<std::unique_ptr<Chain>> lanes, double gainDb, bool isApart)
        : lanes_(std::move(lanes)), delays_(lanes_.size()), gain_(static_cast<float>(dbToAmplitude(gainDb))),
          isApart_(isApart)
    {}

    void prepare(const PrepareSpec& spec) override
    {
        latency_ = 0;
        for (auto& lane : lanes_) {
            lane->prepare(spec);
            latency_ = std::max(latency_, lane->latency());
        }
        for (std::size_t i = 0; i < lanes_.size(); ++i)
            for (auto& side : delays_[i]) side.prepare(latency_ - lanes_[i]->latency());
        channelsOut_ = outputChannels(spec.channels);
        for (auto* store : {&dry_, &lane_, &sum_})
            for (auto& side : *store) side.assign(spec.maxBlock, 0.0f);
    }
    void process(AudioBlock& block) noexcept override
    {
        const std::size_t n = block.frames;
        for (std::size_t c = 0; c < block.channels; ++c) std::copy_n(block.channel[c], n, dry_[c].begin());
        for (auto& side : sum_) std::fill_n(side.begin(), n, 0.0f);
        for (std::size_t i = 0; i < lanes_.size(); ++i) {
            AudioBlock own{{lane_[0].data(), lane_[1].data()}, block.channels, n, block.di};
            for (std::size_t c = 0; c < block.channels; ++c) std::copy_n(dry_[c].begin(), n, own.channel[c]);
            lanes_[i]->process(own);
            for (std::size_t c = 0; c < own.channels; ++c) delays_[i][c].process(own.channel[c], n);
            for (std::size_t c = 0; c < channelsOut_; ++c) {
                if (isApart_ && c != i) continue;
                const float *const from = own.channel[isApart_ ? 0 : std::min(c, own.channels - 1)],
                                   *const other = own.channel[own.channels - 1];
                if (isApart_)
                    for (std::size_t k = 0; k < n; ++k) sum_[c][k] = 0.5f * (from[k] + other[k]);
                else
                    for (std::size_t k = 0; k < n; ++k) sum_[c][k] += from[k];
                float ignored = 0.0f;
                if (!isApart_) apart_ += sumSquares(from, n, ignored);
            }
        }
        float ignored = 0.0f;
        for (std::size_t c = 0; c < channelsOut_ && !isApart_; ++c) together_ += sumSquares(sum_[c].data(), n, ignored);
        for (std::size_t c = 0; c < channelsOut_; ++c)
            for (std::size_t k = 0; k < n; ++k) block.channel[c][k] = gain_ * sum_[c][k];
        block.channels = channelsOut_;
    }
    void reset() noexcept override
    {
        for (auto& lane : lanes_) lane->reset();
        for (auto& pair : delays_)
            for (auto& side : pair) side.reset();
        apart_ = together_ = 0.0;
    }
    std::optional<double> lanesLossDb() const noexcept override
    {
        if (isApart_ || apart_ <= 0.0) return std::nullopt;
        return 10.0 * std::log10(apart_ / std::max(together_, 1e-9 * apart_));
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Lanes&>(other).lanes_;
        for (std::size_t i = 0; i < std::min(lanes_.size(), before.size()); ++i) lanes_[i]->takeOver(*before[i]);
    }
    std::size_t outputChannels(std::size_t in) const noexcept override
    {
        std::size_t most = isApart_ ? 2 : 1;
        for (const auto& lane : lanes_) most = std::max(most, lane->outputChannels(in));
        return most;
    }
    std::size_t latency() const noexcept override { return latency_; }
    double tailSeconds() const noexcept override
    {
        double tail = 0.0;
        for (const auto& lane : lanes_) tail = std::max(tail, lane->tailSeconds());
        return tail;
    }
    bool ranAway() const noexcept override
    {
        return std::ranges::any_of(lanes_, [](const auto& lane) { return lane->ranAway(); });
    }
    bool takesLong() const noexcept override
    {
        return std::ranges::any_of(lanes_, [](const auto& lane) { return lane->takesLong(); });
    }

private:
    std::vector<std::unique_ptr<Chain>> lanes_;
    std::vector<std::array<WholeDelay, 2>> delays_;
    std::array<std::vector<float>, 2> dry_, lane_, sum_;
    float gain_;
    bool isApart_;
    std::size_t latency_ = 0, channelsOut_ = 1;
    double apart_ = 0.0, together_ = 0.0; ///< sums of squares, of the lanes and of what they make
};

class Through final : public NodeProcessor {
public:
    void prepare(const PrepareSpec&) override {}
    void process(AudioBlock&) noexcept override {}
    void reset() noexcept override {}
};

Result<std::unique_ptr<Chain>> buildChain(const RigChain& nodes, const CompileOptions& options,
                                          std::vector<std::string>& warnings);

Result<std::unique_ptr<NodeProcessor>> buildStage(const RigNode& node, const CompileOptions& options,
                                                  std::vector<std::string>& warnings)
{
    if (node.bypass) return std::unique_ptr<NodeProcessor>(std::make_unique<Through>());
    if (node.isSplit()) {
        std::vector<std::unique_ptr<Chain>> lanes;
        for (const RigChain& lane : node.lanes) {
            auto chain = buildChain(lane, options, warnings);
            if (!chain) return chain.error();
            lanes.push_back(std::move(*chain));
        }
        const ParameterValues values = completeValues(lanesType(), node.values);
        const bool isApart = textOf(values, "join") == "apart";
        if (isApart && lanes.size() != 2)
            return Error{ErrorCode::Usage,
                         fmt::format("lanes join=apart: two outputs take two lanes, here are {}", lanes.size()),
                         "take lanes out or add one, or write join=sum"};
        return std::unique_ptr<NodeProcessor>(
            std::make_unique<Lanes>(std::move(lanes), numberOf(values, "gain"), isApart));
    }
    const NodeType* type = findNodeType(node.type);
    if (!type) return Error{ErrorCode::BadDocument, "node \"" + node.type + "\": it is not known", "update Gristle"};
    auto made = type->make(completeValues(*type, node.values), options.context);
    if (made) return made;
    if (!options.allowMissing) return made.error();
    warnings.push_back(node.type + " is bypassed: " + made.error().message);
    return std::unique_ptr<NodeProcessor>(std::make_unique<Through>());
}

Result<std::unique_ptr<Chain>> buildChain(const RigChain& nodes, const CompileOptions& options,
                                          std::vector<std::string>& warnings)
{
    auto chain = std::make_unique<Chain>();
    for (const RigNode& node : nodes) {
        auto stage = buildStage(node, options, warnings);
        if (!stage) return stage.error();
        const void* const kind = node.bypass      ? static_cast<const void*>(&kThrough)
                                 : node.isSplit() ? static_cast<const void*>(&kSplit)
                                                  : static_cast<const void*>(findNodeType(node.type));
        const bool isThrough = dynamic_cast<const Through*>(stage->get()) != nullptr;
        chain->stages.push_back({std::move(*stage), isThrough ? &kThrough : kind, 1});
    }
    return chain;
}

/// The sum of squares, and the highest of `peak` and the sizes.
GRISTLE_VECTORISED
double sumSquares(const float* x, std::size_t count, float& peak) noexcept
{
    typedef double Fours __attribute__((vector_size(4 * sizeof(double))));
    FloatLane high{};
    Fours first{}, second{}; // additions need not wait for each other
    std::size_t i = 0;
    for (; i + kFloatLane <= count; i += kFloatLane) {
        FloatLane v;
        std::memcpy(&v, x + i, sizeof v);
        const FloatLane size = v < 0.0f ? -v : v;
        high = size > high ? size : high;
        const Fours a = __builtin_convertvector(__builtin_shufflevector(v, v, 0, 1, 2, 3), Fours),
                    b = __builtin_convertvector(__builtin_shufflevector(v, v, 4, 5, 6, 7), Fours);
        first += a * a, second += b * b;
    }
    double sum = 0.0;
    for (std::size_t k = 0; k < 4; ++k) sum += first[k] + second[k];
    for (std::size_t k = 0; k < kFloatLane; ++k) peak = std::max(peak, high[k]);
    for (; i < count; ++i) {
        sum += double(x[i]) * double(x[i]);
        peak = std::max(peak, std::abs(x[i]));
    }
    return sum;
}

/// Sum of squares and peak of the louder channel over frames [from, to) of a block.
void noteLevel(const AudioBlock& block, std::size_t from, std::size_t to, double& squares, float& peak) noexcept
{
    double loudest = 0.0;
    for (std::size_t c = 0; c < block.channels && from < to; ++c)
        loudest = std::max(loudest, sumSquares(block.channel[c] + from, to - from, peak));
    squares += loudest;
}

} // namespace

struct CompiledRig::State final : Watch {
    std::unique_ptr<Chain> chain;
    std::size_t channels = 1, maxBlock = 0; ///< channels that come in
    float gain = 1.0f;
    std::vector<StageLevels> stages;
    std::vector<std::string> warnings;
    std::vector<float> di;          ///< of the block in hand
    std::vector<std::int64_t> late; ///< what comes into each stage, against the input
    std::int64_t position = 0, measureFrom = 0, measureTo = std::int64_t{1} << 60;

    void before(std::size_t stage, const AudioBlock& block, std::size_t at) noexcept override
    {
        StageLevels& levels = stages[stage];
        const auto [from, to] = window(late[stage], block, at);
        noteLevel(block, from, to, levels.inSquares, levels.inPeak);
        levels.frames += std::int64_t(to - from);
    }
    void after(std::size_t stage, const AudioBlock& block, std::size_t at) noexcept override
    {
        StageLevels& levels = stages[stage];
        const NodeProcessor& processor = *chain->stages[stage].processor;
        levels.ranAway = processor.ranAway();
        levels.lanesLossDb = processor.lanesLossDb();
        const auto [from, to] = window(late[stage] + std::int64_t(processor.latency()), block, at);
        noteLevel(block, from, to, levels.outSquares, levels.outPeak);
    }

private:
    /// Of a block, the frames to be measured.
    std::pair<std::size_t, std::size_t> window(std::int64_t by, const AudioBlock& block, std::size_t at) const noexcept
    {
        const auto edge = [&](std::int64_t frame) {
            return std::size_t(
                std::clamp<std::int64_t>(frame + by - position - std::int64_t(at), 0, std::int64_t(block.frames)));
        };
        return {edge(measureFrom), edge(measureTo)};
    }
};

CompiledRig::CompiledRig(std::unique_ptr<State> state) : state_(std::move(state)) {}
CompiledRig::CompiledRig(CompiledRig&&) noexcept = default;
CompiledRig& CompiledRig::operator=(CompiledRig&&) noexcept = default;
CompiledRig::~CompiledRig() = default;

Result<CompiledRig> CompiledRig::compile(const RigDocument& rig, const CompileOptions& options)
{
    auto state = std::make_unique<State>();
    auto chain = buildChain(rig.chain, options, state->warnings);
    if (!chain) return chain.error();
    state->chain = std::move(*chain);
    state->channels = options.channels;
    state->maxBlock = std::max(options.maxBlock, state->chain->takesLong() ? options.longBlock : 0);
    state->chain->prepare({options.context.rateHz, state->maxBlock, options.channels, options.live,
                           options.live ? Effort::Playing : options.effort});
    state->chain->watch = state.get();
    for (std::int64_t late = 0; const Stage& stage : state->chain->stages) {
        state->late.push_back(late);
        late += std::int64_t(stage.processor->latency());
    }
    state->di.resize(state->maxBlock);
    state->gain = static_cast<float>(dbToAmplitude(rig.outputDb));
    for (const RigNode& node : rig.chain) {
        StageLevels levels;
        levels.node = node.type;
        levels.bypass = node.bypass;
        state->stages.push_back(std::move(levels));
    }
    return CompiledRig(std::move(state));
}

void CompiledRig::process(AudioBlock& block) noexcept
{
    const NoDenormals scope; // threads that help take it over
    State& s = *state_;
    if (!block.di) {
        std::copy_n(block.channel[0], block.frames, s.di.begin());
        block.di = s.di.data();
    }
    s.chain->process(block);
    s.position += std::int64_t(block.frames);
    if (s.gain != 1.0f)
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t i = 0; i < block.frames; ++i) block.channel[c][i] *= s.gain;
}

void CompiledRig::measureOver(std::int64_t firstFrame, std::int64_t frames) noexcept
{
    state_->measureFrom = firstFrame;
    state_->measureTo = firstFrame + frames;
}

void CompiledRig::reset() noexcept
{
    state_->chain->reset();
    state_->position = 0;
    for (StageLevels& levels : state_->stages) {
        levels.inSquares = levels.outSquares = 0.0;
        levels.inPeak = levels.outPeak = 0.0f;
        levels.frames = 0;
        levels.ranAway = false;
        levels.lanesLossDb.reset();
    }
}

void CompiledRig::takeOver(const CompiledRig& before) noexcept { state_->chain->takeOver(*before.state_->chain); }

std::size_t CompiledRig::maxBlock() const noexcept { return state_->maxBlock; }
std::size_t CompiledRig::outputChannels() const noexcept { return state_->chain->outputChannels(state_->channels); }
std::size_t CompiledRig::latency() const noexcept { return state_->chain->latency(); }
double CompiledRig::tailSeconds() const noexcept { return std::min(kLongestTailS, state_->chain->tailSeconds()); }
const std::vector<StageLevels>& CompiledRig::stages() const noexcept { return state_->stages; }
const std::vector<std::string>& CompiledRig::warnings() const noexcept { return state_->warnings; }

} // namespace gristle::core
