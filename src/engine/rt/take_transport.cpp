#include "engine/rt/take_transport.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::engine {

namespace {

constexpr double kPi = std::numbers::pi;
constexpr double kClickS = 0.03, kClickHz = 1500.0, kFirstClickHz = 2100.0;
constexpr double kSeamS = 0.02;

} // namespace

TakeTransport::TakeTransport(double rateHz)
    : rateHz_(rateHz), seam_(std::llround(kSeamS * rateHz)), gainStep_(1.0 / (0.02 * rateHz))
{
    gate_.prepare(rateHz);
    gate_.jump(false);
}

/// Who followed follows nobody any more, also where the run had no block left to end in.
TakeTransport::~TakeTransport()
{
    for (const auto& plan : plans_.alive())
        if (plan->follower) plan->follower->store(kResting);
}

void TakeTransport::start(TransportPlan plan)
{
    backingGain_.store(plan.backingGain), clickPeak_.store(plan.clickPeak);
    recordedAt_.store(-1);
    elapsed_.store(0);
    position_.store(plan.startFrame);
    plans_.set(std::make_shared<const TransportPlan>(std::move(plan)));
    rolling_.store(true);
}

void TakeTransport::begin(std::int64_t recordedFrames) noexcept
{
    const bool rolling = rolling_.load();
    const TransportPlan* const wanted = plans_.wanted();
    const TransportPlan* used = plans_.held(0);
    if (rolling && wanted != used && gate_.isClosed()) {
        if (!plans_.take(0, wanted)) return;
        used = wanted;
        at_ = used->startFrame;
        nextClick_ = 0;
        while (nextClick_ < used->clicks.size() && used->clicks[nextClick_].frame < at_) ++nextClick_;
        sinceClick_ = -1;
        shownGain_ = double(backingGain_.load());
        recordedAt_.store(recordedFrames);
    }
    gate_.set(rolling && wanted == used && used);
    if (!rolling && used && gate_.isClosed()) {
        if (used->follower) used->follower->store(kResting);
        plans_.release(0);
        plans_.drop(used); // so that the same place in memory is taken up again, should it come back
    }
}

void TakeTransport::backingAt(const TransportPlan& plan, std::int64_t frame, double& left, double& right) const noexcept
{
    const core::AudioBuffer& audio = plan.backing->audio;
    const std::int64_t i = frame - plan.backingFrom;
    if (i < 0 || i >= std::int64_t(audio.frames())) return void(left = right = 0.0);
    left = double(audio.channel(0)[std::size_t(i)]);
    right = double(audio.channel(audio.channels() > 1 ? 1 : 0)[std::size_t(i)]);
}

/// A short sine with soft edges.
float TakeTransport::clickNow(const TransportPlan& plan) noexcept
{
    if (nextClick_ < plan.clicks.size() && plan.clicks[nextClick_].frame == at_) {
        clickHz_ = plan.clicks[nextClick_].isFirst ? kFirstClickHz : kClickHz;
        sinceClick_ = 0;
        ++nextClick_;
    }
    const double length = kClickS * rateHz_;
    if (sinceClick_ < 0 || double(sinceClick_) >= length) return 0.0f;
    const double edge = std::sin(kPi * double(sinceClick_) / length);
    const double turn = 2.0 * kPi * clickHz_ * double(sinceClick_++) / rateHz_;
    return float(double(clickPeak_.load()) * edge * edge * std::sin(turn));
}

void TakeTransport::add(float* left, float* right, std::size_t frames) noexcept
{
    const TransportPlan* const plan = plans_.held(0);
    if (!plan) return;
    const bool loops = plan->loopTo > plan->loopFrom;
    const double wish = double(backingGain_.load());
    for (std::size_t i = 0; i < frames; ++i) {
        const double gate = gate_.step();
        shownGain_ += std::clamp(wish - shownGain_, -gainStep_, gainStep_);
        float both = clickNow(*plan);
        double l = 0.0, r = 0.0;
        if (plan->backing) {
            backingAt(*plan, at_, l, r);
            const std::int64_t untilSeam = plan->loopTo - at_;
            if (loops && untilSeam <= seam_ && untilSeam > 0) { // into what comes before the loop's beginning
                double nl = 0.0, nr = 0.0;
                backingAt(*plan, plan->loopFrom - untilSeam, nl, nr);
                const double turn = 0.5 * kPi * double(untilSeam) / double(seam_);
                l = l * std::sin(turn) + nl * std::cos(turn), r = r * std::sin(turn) + nr * std::cos(turn);
            }
        }
        left[i] += float(gate) * (both + float(shownGain_ * l));
        right[i] += float(gate) * (both + float(shownGain_ * r));
        if (++at_ == plan->loopTo && loops) {
            at_ = plan->loopFrom;
            nextClick_ = 0;
            while (nextClick_ < plan->clicks.size() && plan->clicks[nextClick_].frame < at_) ++nextClick_;
        }
    }
    elapsed_.fetch_add(std::int64_t(frames));
    position_.store(at_);
    if (!plan->follower) return;
    std::int64_t heard = at_ - plan->followerLate;
    if (loops && heard < plan->loopFrom && elapsed_.load() > plan->loopTo - plan->startFrame)
        heard += plan->loopTo - plan->loopFrom;
    plan->follower->store(heard);
}

} // namespace gristle::engine
