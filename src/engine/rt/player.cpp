#include "engine/rt/player.h"

#include <algorithm>
#include <cmath>

namespace gristle::engine {

namespace {

constexpr double kLoopFadeS = 0.012;
constexpr double kMeterS = 0.01;
constexpr double kSilentFade = 0.001; // -60 dB
constexpr double kGainGlideS = 0.03;

} // namespace

Player::Player(double rateHz)
    : rateHz_(rateHz), loopFade_(static_cast<std::size_t>(kLoopFadeS * rateHz)),
      fadeUp_(std::pow(10.0, 6.0 / 20.0 / (0.011 * rateHz))), weighting_{core::KWeighting(rateHz),
                                                                         core::KWeighting(rateHz)}
{
    for (auto* sides : {nowOut_, beforeOut_})
        for (int c = 0; c < 2; ++c) sides[c].resize(kMostFrames);
    gainStep_ = 1.0 - std::exp(-1.0 / (kGainGlideS * rateHz));
    gate_.prepare(rateHz);
    side_.prepare(rateHz);
    side_.jump(true);
    limiter_.prepare(rateHz);
}

Player::~Player() = default;

void Player::setProgram(std::shared_ptr<const Program> program) { programs_.set(std::move(program)); }

/// Takes over a new program or slot where the last change is done.
void Player::adopt() noexcept
{
    if (fade_ < 1.0) return;
    programs_.release(1 - hold_);
    before_ = {};
    const Program* const next = programs_.wanted();
    const std::size_t slot = slot_.load();
    if (next == now_.program && (slot == now_.slot || !next)) return;
    if (!programs_.take(1 - hold_, next)) return;
    hold_ = 1 - hold_;
    before_ = now_;
    now_.program = next;
    now_.slot = next && !next->entries.empty() ? std::min(slot, next->entries.size() - 1) : 0;
    if (next && (now_.position < next->loopStart || now_.position >= next->loopEnd)) now_.position = next->loopStart;
    const Slot *entry = now_.entry(), *old = before_.entry();
    if (entry && old && entry->rig && entry->rig == old->rig) { // it plays on; a rig hears one voice at a time
        before_ = {};
        programs_.release(1 - hold_);
        return;
    }
    now_.gain = -1.0;
    fade_ = kSilentFade;
}

void Player::nextFrame(Voice& voice, float& left, float& right) noexcept
{
    left = right = 0.0f;
    const Program* const p = voice.program;
    if (!p || voice.slot >= p->entries.size() || p->loopEnd <= p->loopStart) return;
    const Slot& slot = p->entries[voice.slot];
    const auto& audio = slot.recording->audio;
    const auto at = [&](std::size_t channel, std::size_t frame) {
        return frame < audio.frames() ? audio.channel(std::min(channel, audio.channels() - 1))[frame] : 0.0f;
    };
    left = at(0, voice.position);
    right = at(1, voice.position);
    const std::size_t length = p->loopEnd - p->loopStart;
    const std::size_t toEnd = p->loopEnd - voice.position;
    const std::size_t fade = std::min(loopFade_, length / 2);
    const bool hasBefore = p->loopStart >= fade;
    if (toEnd <= fade) { // the last moment of the loop fades into what lies before its start, or into silence
        const float w = 1.0f - float(toEnd) / float(fade + 1);
        left = (1.0f - w) * left + (hasBefore ? w * at(0, voice.position - length) : 0.0f);
        right = (1.0f - w) * right + (hasBefore ? w * at(1, voice.position - length) : 0.0f);
    }
    left *= static_cast<float>(voice.level);
    right *= static_cast<float>(voice.level);
    voice.level = std::min(1.0, voice.level * fadeUp_);
    if (++voice.position < p->loopEnd) return;
    voice.position = p->loopStart;
    if (!hasBefore) voice.level = kSilentFade; // it comes out of silence, gently
}

/// The next frames of a voice, through its rig where it has one, at its gain.
void Player::render(Voice& voice, std::vector<float> (&out)[2], std::size_t frames) noexcept
{
    for (std::size_t i = 0; i < frames; ++i) nextFrame(voice, out[0][i], out[1][i]);
    const Slot* const entry = voice.entry();
    if (!entry) return;
    if (entry->rig) {
        for (std::size_t i = 0; i < frames; ++i) out[0][i] *= float(entry->fullScaleV);
        core::AudioBlock block{{out[0].data(), out[1].data()}, 1, frames};
        entry->rig->process(block);
        if (block.channels == 1) std::copy_n(out[0].begin(), frames, out[1].begin());
        for (auto& side : out)
            for (std::size_t i = 0; i < frames; ++i) side[i] *= float(entry->outputScale);
    }
    const double wish = double(entry->gain);
    if (voice.gain < 0.0) voice.gain = wish;
    for (std::size_t i = 0; i < frames; ++i) {
        voice.gain += (wish - voice.gain) * gainStep_;
        if (std::abs(wish - voice.gain) < 1e-7) voice.gain = wish;
        out[0][i] *= float(voice.gain);
        out[1][i] *= float(voice.gain);
    }
}

void Player::fill(float* left, float* right, std::size_t frames) noexcept
{
    for (std::size_t at = 0; at < frames; at += kMostFrames)
        fillPart(left + at, right + at, std::min(kMostFrames, frames - at));
}

void Player::fillPart(float* left, float* right, std::size_t frames) noexcept
{
    const bool playing = playing_.load();
    gate_.set(playing);
    side_.set(!mono_.load());
    adopt();
    if (gate_.isClosed()) { // wishes take effect in silence
        if (const std::int64_t frame = wish_.exchange(-1); frame >= 0 && now_.program)
            now_.position = std::clamp<std::size_t>(static_cast<std::size_t>(frame), now_.program->loopStart,
                                                    std::max(now_.program->loopStart + 1, now_.program->loopEnd) - 1);
    }
    const bool silent = gate_.isClosed() && !playing;
    if (silent) {
        std::fill_n(left, frames, 0.0f);
        std::fill_n(right, frames, 0.0f);
        fade_ = 1.0; // nothing is heard: changes need no fade
        side_.jump(!mono_.load());
    } else {
        render(now_, nowOut_, frames);
        if (fade_ < 1.0) render(before_, beforeOut_, frames);
        for (std::size_t i = 0; i < frames; ++i) {
            float l = nowOut_[0][i], r = nowOut_[1][i];
            if (fade_ < 1.0) {
                const auto in = static_cast<float>(fade_), out = static_cast<float>(std::sqrt(1.0 - fade_ * fade_));
                l = in * l + out * beforeOut_[0][i];
                r = in * r + out * beforeOut_[1][i];
                fade_ = std::min(1.0, fade_ * fadeUp_);
            }
            const auto gate = static_cast<float>(gate_.step());
            const float middle = 0.5f * gate * (l + r);
            const float sides = 0.5f * gate * (l - r) * static_cast<float>(side_.step());
            left[i] = middle + sides;
            right[i] = middle - sides;
        }
    }
    if (overlay_) overlay_->add(left, right, frames);
    limiter_.process(left, right, frames);
    meter(left, right, frames);
}

void Player::meter(const float* left, const float* right, std::size_t frames) noexcept
{
    for (std::size_t i = 0; i < frames; ++i) {
        const double l = double(left[i]), r = double(right[i]);
        open_.peak[0] = std::max(open_.peak[0], std::abs(left[i]));
        open_.peak[1] = std::max(open_.peak[1], std::abs(right[i]));
        open_.squares[0] += l * l;
        open_.squares[1] += r * r;
        open_.product += l * r;
        const double wl = weighting_[0].step(l), wr = weighting_[1].step(r);
        open_.weighted += wl * wl + wr * wr;
        ++open_.frames;
    }
    if (open_.frames < kMeterS * rateHz_) return;
    open_.limiterGain = limiter_.leastGain();
    open_.position = now_.position;
    meters_.push(open_);
    open_ = {};
}

} // namespace gristle::engine
