#include "core/rig/nodes/circuit_side.h"

#include "core/rig/circuit/circuit_batch.h"

#include <algorithm>
#include <cmath>
#include <optional>
#include <thread>

namespace gristle::core {

namespace {

constexpr std::size_t kChunk = 128;    // base frames at a time: the raised work stays in the first cache
constexpr std::size_t kLaneChunk = 32; // of each lane, for the same reason
constexpr double kForgets = 16.0;      // time constants: 140 dB
constexpr double kComparedS = 0.05;
constexpr double kAlikeDb = -120.0;

constexpr std::size_t kLanes = CircuitBatch::kLanes, kParts = 2, kStretches = kParts * kLanes;

/// Where a stretch begins to run up, where it is heard, where it ends.
struct Stretch {
    std::size_t from, heard, to;
};

/// Sixteen stretches on their way.
struct Group {
    std::vector<Oversampler> over;
    CircuitBatch circuits;
    std::array<std::vector<float>, kLanes> runUps; ///< the last part of each

    Group(const Oversampler& now, const CircuitBatch& like, std::size_t compared) : over(kLanes, now), circuits(like)
    {
        for (auto& runUp : runUps) runUp.reserve(compared);
    }
    void play(std::span<const float> in, std::span<float> out, const Stretch* stretches, std::size_t compared,
              double inGain, float outGain) noexcept
    {
        const std::size_t frames = stretches[0].to - stretches[0].from; // as many of each
        CircuitBatch::Volts volts;
        std::array<float, kLaneChunk> low;
        for (std::size_t at = 0; at < frames; at += kLaneChunk) {
            const std::size_t n = std::min(kLaneChunk, frames - at);
            std::span<float> high;
            for (std::size_t lane = 0; lane < kLanes; ++lane) {
                high = over[lane].up(in.subspan(stretches[lane].from + at, n));
                volts[lane] = high.data();
            }
            circuits.process(volts, high.size(), inGain, outGain);
            for (std::size_t lane = 0; lane < kLanes; ++lane) {
                over[lane].down({volts[lane], high.size()}, std::span(low).first(n));
                const Stretch& s = stretches[lane];
                for (std::size_t i = 0; i < n; ++i)
                    if (const std::size_t frame = s.from + at + i; frame >= s.heard)
                        out[frame] = low[i];
                    else if (frame + compared >= s.heard)
                        runUps[lane].push_back(low[i]);
            }
        }
    }
};

bool isAlike(std::span<const float> a, std::span<const float> b)
{
    double off = 0.0, all = 0.0;
    for (std::size_t i = 0; i < a.size(); ++i) {
        off += std::pow(double(a[i]) - double(b[i]), 2);
        all += double(b[i]) * double(b[i]);
    }
    constexpr double kQuietV = 1e-7; // nothing is heard there
    return off <= all * std::pow(10.0, kAlikeDb / 10.0) + double(a.size()) * kQuietV * kQuietV;
}

} // namespace

CircuitSide::CircuitSide(std::span<const Netlist> sections, double rateHz, std::size_t factor, Oversampler::Phase phase,
                         std::size_t maxBlock)
    : state_{Oversampler(factor, phase, sections.size() - 1), CircuitSolver(sections, rateHz * double(factor))}
{
    state_.over.prepare(kChunk);
    compared_ = std::size_t(rateHz * kComparedS);
    double longestS = 0.0;
    for (const auto& form : state_.circuit.forms())
        longestS = std::max(longestS, form->longestSeconds(rateHz * double(factor)));
    runUp_ = std::size_t(std::ceil(kForgets * longestS * rateHz)) + compared_;
    if (stretchOf(maxBlock) > 0) input_.resize(maxBlock);
}

CircuitSide::~CircuitSide() = default;
CircuitSide::CircuitSide(CircuitSide&&) noexcept = default;
CircuitSide& CircuitSide::operator=(CircuitSide&&) noexcept = default;

/// What is being played in parts.
struct CircuitSide::LongBlock {
    std::span<float> x;
    std::array<Stretch, kStretches> stretches;
    std::vector<Group> groups; ///< a part each
    CircuitMoment moment;      ///< where the last stretch that was handed out ended
    std::vector<float> last;   ///< the last part of a part that was handed out: later stages may be at it
};

void CircuitSide::process(std::span<float> x, double inGain, float outGain) noexcept
{
    try {
        if (beginParts(x).empty()) return state_.process(x, inGain, outGain);
    } catch (const std::bad_alloc&) { // in one stretch it needs none
        long_.reset();
        return state_.process(x, inGain, outGain);
    }
    takeIn(0, x.size());
    {
        std::jthread helper;
        try {
            helper = std::jthread([&] { playPart(1, inGain, outGain); });
        } catch (const std::exception&) { // the system gives no more threads or memory
            playPart(1, inGain, outGain);
        }
        playPart(0, inGain, outGain);
    }
    for (std::size_t part = 0; part < kParts; ++part) handOut(part, inGain, outGain);
}

std::size_t CircuitSide::stretchOf(std::size_t frames) const noexcept
{
    const std::size_t each = frames > runUp_ ? (frames - runUp_) / kStretches : 0;
    return each >= runUp_ / 2 ? each : 0; // a longer run up costs more than it saves
}

std::vector<std::size_t> CircuitSide::beginParts(std::span<float> x)
{
    const std::size_t each = stretchOf(x.size());
    if (each == 0) return {};
    long_ = std::make_unique<LongBlock>(LongBlock{x, {}, {}, state_.circuit.moment(), {}});
    // The first one runs up, too, and is heard from the start: all are as long.
    for (std::size_t s = 0; s < kStretches; ++s)
        long_->stretches[s] = {s * each, s == 0 ? 0 : s * each + runUp_, (s + 1) * each + runUp_};
    long_->last.reserve(compared_);
    long_->groups.reserve(kParts);
    const CircuitBatch circuits(state_.circuit);
    std::vector<std::size_t> ends;
    for (std::size_t part = 0; part < kParts; ++part) {
        long_->groups.emplace_back(state_.over, circuits, compared_);
        ends.push_back(long_->stretches[(part + 1) * kLanes - 1].to);
    }
    ends.back() = x.size(); // with what no stretch takes
    return ends;
}

void CircuitSide::takeIn(std::size_t at, std::size_t frames) noexcept
{
    std::ranges::copy(long_->x.subspan(at, frames), input_.begin() + long(at));
}

void CircuitSide::playPart(std::size_t part, double inGain, float outGain) noexcept
{
    LongBlock& block = *long_;
    block.groups[part].play(std::span(input_).first(block.x.size()), block.x, &block.stretches[part * kLanes],
                            compared_, inGain, outGain);
}

void CircuitSide::handOut(std::size_t part, double inGain, float outGain) noexcept
{
    const std::span<float> x = long_->x;
    Group& group = long_->groups[part];
    const auto beforeOf = [&](std::size_t frame) { return x.subspan(frame - compared_, compared_); };
    // One after the other; where one is not alike, the next is compared with what it is now.
    for (std::size_t lane = 0; lane < kLanes; ++lane) {
        const Stretch& here = long_->stretches[part * kLanes + lane];
        const bool isFirst = part == 0 && lane == 0;
        if (!isFirst && !isAlike(group.runUps[lane], lane == 0 ? long_->last : beforeOf(here.heard))) {
            ++again_;
            const std::span<float> heard = x.subspan(here.heard, here.to - here.heard);
            std::ranges::copy(std::span(input_).subspan(here.heard, heard.size()), heard.begin());
            state_.process(heard, inGain, outGain);
        } else {
            state_.over = group.over[lane];
            group.circuits.get(lane, long_->moment);
            state_.circuit.goOnFrom(long_->moment);
        }
    }
    const auto last = beforeOf(long_->stretches[part * kLanes + kLanes - 1].to);
    long_->last.assign(last.begin(), last.end());
    if (part + 1 < kParts) return;
    state_.process(x.subspan(long_->stretches.back().to), inGain, outGain);
    long_.reset();
}

void CircuitSide::takeOver(const CircuitSide& before) noexcept
{
    if (state_.over.factor() != before.state_.over.factor()) return;
    state_.over = before.state_.over;
    state_.circuit.takeOver(before.state_.circuit);
}

void CircuitSide::reset() noexcept
{
    again_ = 0;
    state_.over.reset();
    state_.circuit.reset();
}

void CircuitSide::State::process(std::span<float> x, double inGain, float outGain) noexcept
{
    for (std::size_t at = 0; at < x.size(); at += kChunk) {
        const std::span<float> part = x.subspan(at, std::min(kChunk, x.size() - at));
        const auto high = over.up(part);
        for (float& v : high) v = outGain * static_cast<float>(circuit.step(inGain * double(v)));
        over.down(high, part);
    }
}

} // namespace gristle::core
