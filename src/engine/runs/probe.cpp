#include "engine/runs/probe.h"

#include "engine/simulated/simulated_device.h"

#include <algorithm>
#include <chrono>

namespace gristle::engine {

namespace {

class Probe final : public AudioSource, public AudioSink {
public:
    Probe(const ProbeWish& wish, std::size_t settle, std::size_t fade)
        : wish_(wish), heard_(wish.inputs.size(), std::vector<float>(wish.listenFrames, 0.0f)), settle_(settle),
          fade_(fade), left_(fade)
    {}
    void take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept override
    {
        const std::size_t played = played_.load();
        if (played < settle_) return;
        const std::size_t from = played - settle_; // of the same block's output
        if (lost && from > 0) isWhole_.store(false);
        for (std::size_t c = 0; c < heard_.size(); ++c)
            for (std::size_t i = 0; i < frames && from + i < wish_.listenFrames; ++i)
                heard_[c][from + i] = wish_.inputs[c] < channels ? inputs[wish_.inputs[c]][i] : 0.0f;
        if (from + frames >= wish_.listenFrames) done_.store(true);
    }
    void fill(float* left, float* right, std::size_t frames) noexcept override
    {
        const std::size_t played = played_.load();
        if (played < settle_) settle_ = std::max(settle_, played + frames); // begins with a block
        for (std::size_t i = 0; i < frames; ++i) {
            const std::size_t at = played + i;
            float x = at >= settle_ && at - settle_ < wish_.signal.size() ? wish_.signal[at - settle_] : 0.0f;
            if (stopping_.load()) x *= float(left_ > 0 ? left_-- : 0) / float(fade_);
            left[i] = wish_.side == OutputSide::Right ? 0.0f : x;
            right[i] = wish_.side == OutputSide::Left ? 0.0f : x;
        }
        if (stopping_.load() && left_ == 0) silent_.store(true);
        played_.store(played + frames);
    }
    bool isDone() const noexcept { return done_.load(); }
    bool isSilent() const noexcept { return silent_.load(); }
    void fadeOut() noexcept { stopping_.store(true); }
    double part() const noexcept
    {
        return std::min(1.0, double(played_.load()) / double(settle_ + wish_.listenFrames));
    }
    ProbeTake finished() { return {std::move(heard_), isWhole_.load()}; }

private:
    const ProbeWish& wish_;
    std::vector<std::vector<float>> heard_;
    std::size_t settle_, fade_, left_;
    std::atomic<std::size_t> played_{0};
    std::atomic<bool> done_{false}, isWhole_{true}, stopping_{false}, silent_{false};
};

} // namespace

core::Result<ProbeTake> playAndListen(AudioDevice& device, const ProbeWish& wish, const core::Progress& progress)
{
    using core::Error, core::ErrorCode;
    for (const std::size_t input : wish.inputs)
        if (input >= device.inputs())
            return Error{ErrorCode::OutOfRange, device.name() + ": it has no input " + std::to_string(input + 1),
                         "choose one of its " + std::to_string(device.inputs())};
    constexpr double kSettleS = 0.2, kFadeS = 0.015;
    const double rate = device.rateHz();
    Probe probe(wish, std::size_t(kSettleS * rate), std::size_t(kFadeS * rate));
    if (const auto started = device.start(probe, &probe); !started) return started.error();
    using Clock = std::chrono::steady_clock;
    auto longest = Clock::now() + std::chrono::duration_cast<Clock::duration>(
                                      std::chrono::duration<double>(2.0 + 2.0 * double(wish.listenFrames) / rate));
    auto* simulated = dynamic_cast<SimulatedDevice*>(&device);
    const bool isManual = simulated && simulated->clock() == SimulatedDevice::Clock::Manual;
    while (!probe.isDone() && !probe.isSilent() && device.isRunning() && (isManual || Clock::now() < longest)) {
        if (progress.stopped()) probe.fadeOut();
        progress.at(probe.part());
        if (isManual)
            simulated->advance(16 * simulated->bufferFrames()), simulated->forget(); // whole blocks
        else
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
    }
    device.stop();
    if (progress.stopped()) return Error{ErrorCode::Cancelled, device.name() + ": stopped", ""};
    if (!probe.isDone())
        return Error{ErrorCode::WriteFailed, device.name() + ": it stopped while the signal was played",
                     "check that it runs, then try again"};
    return probe.finished();
}

} // namespace gristle::engine
