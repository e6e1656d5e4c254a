// Polarity, fine delay, the short-delay widener, and what is only looked at: tuner and probe.

#include "core/rig/nodes/nodes.h"
#include "core/signal/biquad.h"
#include "core/signal/fractional_delay.h"

namespace gristle::core {

namespace {

class Polarity final : public NodeProcessor {
public:
    void prepare(const PrepareSpec&) override {}
    void reset() noexcept override {}
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t i = 0; i < block.frames; ++i) block.channel[c][i] = -block.channel[c][i];
    }
};

/// What the interpolator needs before and behind stands as latency; the delay itself does not, as it is wanted.
class Shift final : public NodeProcessor {
public:
    explicit Shift(double seconds) : seconds_(seconds) {}
    void prepare(const PrepareSpec& spec) override
    {
        lines_.assign(spec.channels, {});
        for (auto& line : lines_) line.prepare(double(latency()) + seconds_ * spec.rateHz);
    }
    void reset() noexcept override
    {
        for (auto& line : lines_) line.reset();
    }
    std::size_t latency() const noexcept override { return FractionalDelay::kTaps / 2; }
    double tailSeconds() const noexcept override { return seconds_ + 0.001; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t i = 0; i < block.frames; ++i) {
                const auto y = float(lines_[c].read());
                lines_[c].write(block.channel[c][i]);
                block.channel[c][i] = y;
            }
    }

private:
    double seconds_;
    std::vector<FractionalDelay> lines_;
};

/// One side late by some milliseconds, and only above a frequency: below it both sides stay alike, so the low end keeps
/// its place and its weight in mono. What is taken from the low end of one side is put back undelayed.
class Widen final : public NodeProcessor {
public:
    Widen(double seconds, double fromHz, bool isLeft) : seconds_(seconds), fromHz_(fromHz), isLeft_(isLeft) {}
    void prepare(const PrepareSpec& spec) override
    {
        line_.prepare(seconds_ * spec.rateHz);
        low_ = OnePole::lowPass(fromHz_, spec.rateHz);
        reset();
    }
    void reset() noexcept override { line_.reset(), low_.reset(); }
    double tailSeconds() const noexcept override { return seconds_ + 2.0 / fromHz_; }
    std::size_t outputChannels(std::size_t) const noexcept override { return 2; }
    void process(AudioBlock& block) noexcept override
    {
        if (block.channels == 1) std::copy_n(block.channel[0], block.frames, block.channel[1]);
        block.channels = 2;
        float* const x = block.channel[isLeft_ ? 0 : 1];
        for (std::size_t i = 0; i < block.frames; ++i) {
            const double low = low_.step(double(x[i]));
            const double late = line_.read();
            line_.write(float(double(x[i]) - low));
            x[i] = float(low + late);
        }
    }

private:
    double seconds_, fromHz_;
    bool isLeft_;
    FractionalDelay line_;
    OnePole low_;
};

/// Lets all of it by: what stands there is measured where the stage is looked at.
class Look final : public NodeProcessor {
public:
    explicit Look(bool isMuted) : isMuted_(isMuted) {}
    void prepare(const PrepareSpec&) override {}
    void reset() noexcept override {}
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; isMuted_ && c < block.channels; ++c) std::fill_n(block.channel[c], block.frames, 0.0f);
    }

private:
    bool isMuted_;
};

} // namespace

NodeType polarityNode()
{
    return {.type = "polarity",
            .title = "Polarity",
            .about = "Turns the signal upside down.",
            .channels = "any",
            .parameters = {},
            .make = [](const ParameterValues&, const NodeContext&) -> MadeNode { return madeNode<Polarity>(); }};
}

NodeType shiftNode()
{
    return {.type = "shift",
            .title = "Fine delay",
            .about = "Later by a part of a millisecond or more, to bring lanes or microphones together.",
            .channels = "any",
            .parameters = {numberSpec("by", "ms", 0.0, 50.0, "0", "how much later; 1 ms is 34 cm of air")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return madeNode<Shift>(numberOf(v, "by") * 1e-3);
            }};
}

NodeType widenNode()
{
    return {.type = "widen",
            .title = "Widener",
            .about = "One performance on both sides, one of them late: wide, and hollow in mono. Blend shows what mono "
                     "costs.",
            .channels = "1 to 2",
            .parameters = {milliseconds("by", 3.0, 40.0, "14", "how late the one side is"),
                           hertz("from", 40.0, 800.0, "180", "below that both sides stay alike"),
                           choiceSpec("late", {"left", "right"}, "right", "which side is late")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return madeNode<Widen>(numberOf(v, "by") * 1e-3, numberOf(v, "from"), textOf(v, "late") == "left");
            }};
}

NodeType tunerNode()
{
    return {.type = "tuner",
            .title = "Tuner",
            .about = "Shows the notes that stand there, one string at a time, and how far each is off. Changes nothing "
                     "unless it is told to mute.",
            .channels = "any",
            .parameters = {numberSpec("reference", "Hz", 400.0, 480.0, "440", "what A4 is tuned to"),
                           choiceSpec("mute", {"no", "yes"}, "no", "nothing comes out while somebody tunes")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return madeNode<Look>(textOf(v, "mute") == "yes");
            }};
}

NodeType probeNode()
{
    return {.type = "probe",
            .title = "Probe",
            .about = "Shows the level and the spectrum of what stands there. Changes nothing.",
            .channels = "any",
            .parameters = {},
            .make = [](const ParameterValues&, const NodeContext&) -> MadeNode { return madeNode<Look>(false); }};
}

} // namespace gristle::core
