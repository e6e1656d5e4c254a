#include "core/rig/nodes/nodes.h"
#include "core/signal/varying_delay.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

/// Three taps of one line, each moved by a sine. Their rates stand as 1 to p to p^2, p the reciprocal of the plastic
/// number (the root of x^3 = x + 1): badly approximable together, so all three never come back to the same
/// places within any time that a song lasts. Left and right take them with other signs.
class Chorus final : public NodeProcessor {
public:
    Chorus(double rateHz, double depthS, double delayS, double mix)
        : rate_(rateHz), depth_(depthS), delay_(delayS), mix_(mix)
    {}
    void prepare(const PrepareSpec& spec) override
    {
        fs_ = spec.rateHz;
        lines_.assign(spec.channels, {});
        for (auto& line : lines_) line.prepare((delay_ + depth_) * fs_ + VaryingDelay::kTaps);
        reset();
    }
    void reset() noexcept override
    {
        for (auto& line : lines_) line.reset();
        phase_ = {0.0, 0.31, 0.67};
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Chorus&>(other);
        for (std::size_t c = 0; c < std::min(lines_.size(), before.lines_.size()); ++c)
            lines_[c].takeOver(before.lines_[c]);
        phase_ = before.phase_;
    }
    std::size_t outputChannels(std::size_t) const noexcept override { return 2; }
    double tailSeconds() const noexcept override { return delay_ + depth_ + 0.01; }
    void process(AudioBlock& block) noexcept override
    {
        const double dry = std::sqrt(1.0 - mix_ * mix_); // as loud together, whatever the mix
        const bool wasMono = block.channels == 1;
        block.channels = 2;
        for (std::size_t i = 0; i < block.frames; ++i) {
            std::array<double, kTaps> tap;
            const float in[2] = {block.channel[0][i], wasMono ? block.channel[0][i] : block.channel[1][i]};
            double wet[2] = {0.0, 0.0};
            for (std::size_t k = 0; k < kTaps; ++k) {
                const double place = delay_ + depth_ * std::sin(2.0 * std::numbers::pi * phase_[k]);
                tap[k] = std::max(place * fs_, VaryingDelay::kTaps / 2.0);
                phase_[k] += rate_ * kRates[k] / fs_;
                phase_[k] -= std::floor(phase_[k]);
                for (std::size_t side = 0; side < 2; ++side)
                    wet[side] += kSides[side][k] * lines_[wasMono ? 0 : side].read(tap[k]);
            }
            for (std::size_t c = 0; c < lines_.size(); ++c) lines_[c].write(in[c]);
            for (std::size_t side = 0; side < 2; ++side)
                block.channel[side][i] = float(dry * double(in[side]) + mix_ * wet[side]);
        }
    }

private:
    static constexpr std::size_t kTaps = 3;
    static constexpr double kPlastic = 0.7548776662466927;
    static constexpr std::array<double, kTaps> kRates{1.0, kPlastic, kPlastic* kPlastic};
    // Powers sum to a little over 1 on each side, for what they cancel of each other at low frequencies; the middle one
    // is on both.
    static constexpr double kSides[2][kTaps] = {{0.76, 0.53, -0.51}, {-0.51, 0.53, 0.76}};

    double rate_, depth_, delay_, mix_, fs_ = 48000.0;
    std::vector<VaryingDelay> lines_;
    std::array<double, kTaps> phase_{};
};

} // namespace

NodeType chorusNode()
{
    return {.type = "chorus",
            .title = "Chorus",
            .about = "Three moving echoes, spread over both sides, that never repeat their pattern.",
            .channels = "1 to 2",
            .parameters = {hertz("rate", 0.05, 8.0, "0.6", "of the fastest of the three"),
                           milliseconds("depth", 0.05, 8.0, "1.8", "how far each moves to either side"),
                           milliseconds("delay", 2.0, 30.0, "9", "around which they move; held above the depth"),
                           mixSpec("0.4")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                const double depth = numberOf(v, "depth") * 1e-3;
                return madeNode<Chorus>(numberOf(v, "rate"), depth,
                                        std::max(numberOf(v, "delay") * 1e-3, depth + 0.5e-3), numberOf(v, "mix"));
            }};
}

} // namespace gristle::core
