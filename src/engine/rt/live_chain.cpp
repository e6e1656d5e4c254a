#include "engine/rt/live_chain.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::engine {

LiveChain::LiveChain(Recorder& recorder, double rateHz)
    : recorder_(recorder), transport_(rateHz), heard_(Recorder::kMostChannels, std::vector<float>(kMostFrames)),
      gainStep_(1.0 / (0.02 * rateHz)), rateHz_(rateHz)
{
    for (auto* sides : {voice_, sum_})
        for (int c = 0; c < 2; ++c) sides[c].resize(kMostFrames);
    gate_.prepare(rateHz);
    gate_.jump(false);
}

LiveChain::~LiveChain() = default;

void LiveChain::setProgram(LiveProgram program) { programs_.set(std::make_shared<LiveProgram>(std::move(program))); }

std::size_t LiveChain::latency() const noexcept
{
    std::size_t slowest = 0;
    if (!programs_.alive().empty())
        for (const LiveVoice& v : *programs_.alive().back())
            if (v.rig) slowest = std::max(slowest, v.rig->latency());
    return slowest;
}

void LiveChain::take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept
{
    transport_.begin(recorder_.frames());
    recorder_.take(inputs, channels, frames, lost);
    if (const std::size_t tapped = tapInput_.load(); tapped < channels)
        for (std::size_t i = 0; i < frames; ++i) tap_.push(inputs[tapped][i]);
    heardFrames_ = std::min(frames, kMostFrames);
    for (std::size_t c = 0; c < heard_.size(); ++c) {
        if (c < channels)
            std::copy_n(inputs[c], heardFrames_, heard_[c].begin());
        else
            std::fill_n(heard_[c].begin(), heardFrames_, 0.0f);
    }
}

std::size_t LiveChain::readTap(std::span<float> out) noexcept
{
    std::size_t n = 0;
    while (n < out.size() && tap_.pop(out[n])) ++n;
    return n;
}

void LiveChain::addVoice(LiveVoice& voice, std::size_t frames) noexcept
{
    const auto& in = heard_[std::min(voice.input, heard_.size() - 1)];
    const auto scale = float(voice.rig ? voice.fullScaleV : 1.0), back = float(voice.rig ? voice.outputScale : 1.0);
    for (std::size_t i = 0; i < frames; ++i) voice_[0][i] = in[i] * scale;
    core::AudioBlock block{{voice_[0].data(), voice_[1].data()}, 1, frames};
    if (voice.rig) voice.rig->process(block);
    const auto& right = block.channels == 2 ? voice_[1] : voice_[0];
    for (std::size_t i = 0; i < frames; ++i) {
        sum_[0][i] += voice_[0][i] * back * voice.left;
        sum_[1][i] += right[i] * back * voice.right;
    }
}

void LiveChain::addTone(float* left, float* right, std::size_t frames) noexcept
{
    const double wish = double(tone_.load()), step = 0.1 / (0.2 * rateHz_); // a tenth of full scale in 200 ms
    if (wish == 0.0 && toneLevel_ == 0.0) return;
    const double turn = 2.0 * std::numbers::pi * toneHz_.load() / rateHz_;
    for (std::size_t i = 0; i < frames; ++i) {
        toneLevel_ += std::clamp(wish - toneLevel_, -step, step);
        const auto x = float(toneLevel_ * std::sin(tonePhase_));
        tonePhase_ = std::fmod(tonePhase_ + turn, 2.0 * std::numbers::pi);
        left[i] += x;
        right[i] += x;
    }
}

void LiveChain::add(float* left, float* right, std::size_t frames) noexcept
{
    LiveProgram* const wanted = programs_.wanted();
    LiveProgram* used = programs_.held(0);
    if (wanted != used && gate_.isClosed()) used = programs_.take(0, wanted) ? wanted : nullptr;
    const bool open = listening_.load() && wanted == used && used && !used->empty();
    gate_.set(open);
    frames = std::min(frames, kMostFrames);
    for (auto& side : sum_) std::fill_n(side.begin(), frames, 0.0f);
    if (used && heardFrames_ == frames && !(gate_.isClosed() && !open))
        for (LiveVoice& voice : *used) addVoice(voice, frames);
    const double wish = double(gain_.load());
    for (std::size_t i = 0; i < frames; ++i) {
        shownGain_ += std::clamp(wish - shownGain_, -gainStep_, gainStep_);
        const auto gain = float(gate_.step() * shownGain_);
        left[i] += gain * sum_[0][i];
        right[i] += gain * sum_[1][i];
    }
    addTone(left, right, frames);
    transport_.add(left, right, frames);
}

} // namespace gristle::engine
