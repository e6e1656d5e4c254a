#include "engine/player.h"

#include <algorithm>
#include <cmath>

namespace gristle::engine {

namespace {

constexpr double kLoopFadeS = 0.012;
constexpr double kMeterS = 0.01;
constexpr double kSilentFade = 0.001; // -60 dB

} // namespace

Player::Player(double rateHz)
    : rateHz_(rateHz), loopFade_(static_cast<std::size_t>(kLoopFadeS * rateHz)),
      fadeUp_(std::pow(10.0, 6.0 / 20.0 / (0.011 * rateHz))), weighting_{core::KWeighting(rateHz),
                                                                         core::KWeighting(rateHz)}
{
    gate_.prepare(rateHz);
    side_.prepare(rateHz);
    side_.jump(true);
    limiter_.prepare(rateHz);
}

Player::~Player() = default;

void Player::setProgram(std::shared_ptr<const Program> program)
{
    const Program* raw = program.get();
    if (program) alive_.push_back(std::move(program));
    wanted_.store(raw);
    collect();
}

/// Lets go of programs that neither side can touch any more.
void Player::collect()
{
    const Program* const keep[3] = {wanted_.load(), using_[0].load(), using_[1].load()};
    std::erase_if(alive_, [&](const auto& p) { return std::ranges::find(keep, p.get()) == std::end(keep); });
}

/// Takes over a new program or slot where the last change is done. The pointer is announced first and then looked at
/// again, so that the control thread never frees what was just taken (a hazard pointer; source: Michael 2004).
void Player::adopt() noexcept
{
    if (fade_ < 1.0) return;
    using_[1].store(nullptr);
    before_ = {};
    const Program* next = wanted_.load();
    const std::size_t slot = slot_.load();
    if (next == now_.program && (slot == now_.slot || !next)) return;
    using_[1].store(now_.program);
    for (int tries = 0; tries < 4; ++tries) {
        using_[0].store(next);
        const Program* again = wanted_.load();
        if (again == next) break;
        if (tries == 3) { // somebody changes it faster than we look: stay with what we have until the next block
            using_[0].store(now_.program);
            return;
        }
        next = again;
    }
    before_ = now_;
    now_.program = next;
    now_.slot = next && !next->entries.empty() ? std::min(slot, next->entries.size() - 1) : 0;
    if (next && (now_.position < next->loopStart || now_.position >= next->loopEnd)) now_.position = next->loopStart;
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
    const float gain = slot.gain * static_cast<float>(voice.level);
    left *= gain;
    right *= gain;
    voice.level = std::min(1.0, voice.level * fadeUp_);
    if (++voice.position < p->loopEnd) return;
    voice.position = p->loopStart;
    if (!hasBefore) voice.level = kSilentFade; // it comes out of silence, gently
}

void Player::fill(float* left, float* right, std::size_t frames) noexcept
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
    for (std::size_t i = 0; i < frames; ++i) {
        float l = 0.0f, r = 0.0f;
        if (!silent) {
            nextFrame(now_, l, r);
            if (fade_ < 1.0) {
                float bl = 0.0f, br = 0.0f;
                nextFrame(before_, bl, br);
                const auto in = static_cast<float>(fade_), out = static_cast<float>(std::sqrt(1.0 - fade_ * fade_));
                l = in * l + out * bl;
                r = in * r + out * br;
                fade_ = std::min(1.0, fade_ * fadeUp_);
            }
            const auto gate = static_cast<float>(gate_.step());
            const float middle = 0.5f * gate * (l + r);
            const float sides = 0.5f * gate * (l - r) * static_cast<float>(side_.step());
            l = middle + sides;
            r = middle - sides;
        }
        left[i] = l;
        right[i] = r;
    }
    if (silent) {
        fade_ = 1.0; // nothing is heard: changes need no fade
        side_.jump(!mono_.load());
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
