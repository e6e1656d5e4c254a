#include "core/rig/nodes/nodes.h"
#include "core/signal/biquad.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

/// One spring: a delay and a cascade of stretched allpasses in a loop. Below the corner, high frequencies come later
/// than low ones, the more of them the more often they have gone round: the chirp of a coil. Above the corner a spring
/// gives nothing. Source: Valimaki, Parker and Abel 2010, Parametric spring reverberation effect.
class Spring {
public:
    static constexpr std::size_t kSections = 80;
    static constexpr double kA = 0.62;

    /// @param stretch  samples; its corner is half the rate over that
    void prepare(double rateHz, std::size_t stretch, double roundS, double decayS)
    {
        stretch_ = stretch;
        states_.assign(stretch_ * kSections, 0.0f);
        // At low frequencies each section takes stretch (1 - a) / (1 + a) samples.
        const double inside = double(kSections * stretch_) * (1.0 - kA) / (1.0 + kA);
        ring_.assign(std::max<std::size_t>(2, std::size_t(std::lround(roundS * rateHz - inside))), 0.0f);
        gain_ = -std::pow(10.0, -3.0 * roundS / decayS);
        const double end = rateHz / (2.0 * double(stretch_));
        for (std::size_t k = 0; k < top_.size(); ++k) // Butterworth of the eighth order
            top_[k] = Biquad(lowPass(0.95 * end, 0.5 / std::cos(std::numbers::pi * (double(k) + 0.5) / 8.0), rateHz));
        block_ = OnePole::highPass(kLowHz, rateHz);
        reset();
    }
    void reset() noexcept
    {
        std::ranges::fill(states_, 0.0f);
        std::ranges::fill(ring_, 0.0f);
        for (Biquad& b : top_) b.reset();
        block_.reset();
        now_ = 0;
    }
    void takeOver(const Spring& before) noexcept
    {
        if (states_.size() != before.states_.size() || ring_.size() != before.ring_.size()) return;
        std::ranges::copy(before.states_, states_.begin());
        std::ranges::copy(before.ring_, ring_.begin());
        now_ = before.now_;
    }
    double step(double in) noexcept
    {
        float& slot = ring_[now_ % ring_.size()];
        auto x = float(in + gain_ * double(slot));
        float* const row = states_.data() + (now_ % stretch_) * kSections;
        constexpr auto a = float(kA);
        for (std::size_t k = 0; k < kSections; ++k) {
            const float v = x - a * row[k];
            x = a * v + row[k];
            row[k] = std::abs(v) < 1e-20f ? 0.0f : v;
        }
        slot = x;
        ++now_;
        double y = block_.step(double(x));
        for (Biquad& b : top_) y = b.step(y);
        return y;
    }

private:
    static constexpr double kLowHz = 40.0;
    std::size_t stretch_ = 1, now_ = 0;
    std::vector<float> states_, ring_;
    double gain_ = 0.0;
    std::array<Biquad, 4> top_;
    OnePole block_;
};

class SpringReverb final : public NodeProcessor {
public:
    struct Dials {
        double decayS, roundS, cornerHz, mix;
    };
    explicit SpringReverb(const Dials& dials) : d_(dials) {}
    void prepare(const PrepareSpec& spec) override
    {
        const auto stretch = std::max<std::size_t>(1, std::size_t(std::lround(spec.rateHz / (2.0 * d_.cornerHz))));
        for (auto& side : springs_) {
            side[0].prepare(spec.rateHz, stretch, d_.roundS, d_.decayS);
            side[1].prepare(spec.rateHz, stretch + 1, kOther * d_.roundS, d_.decayS);
        }
        channels_ = spec.channels;
    }
    void reset() noexcept override
    {
        for (auto& side : springs_)
            for (Spring& s : side) s.reset();
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const SpringReverb&>(other);
        for (std::size_t c = 0; c < channels_; ++c)
            for (std::size_t k = 0; k < 2; ++k) springs_[c][k].takeOver(before.springs_[c][k]);
    }
    double tailSeconds() const noexcept override { return 1.8 * d_.decayS + 2.0 * d_.roundS; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < channels_; ++c)
            for (std::size_t i = 0; i < block.frames; ++i) {
                const double x = double(block.channel[c][i]);
                const double wet = 0.7071 * (springs_[c][0].step(x) + springs_[c][1].step(x));
                block.channel[c][i] = float((1.0 - d_.mix) * x + d_.mix * wet);
            }
    }

private:
    static constexpr double kOther = 1.2272; // of the second spring, so that their echoes do not fall together
    Dials d_;
    std::array<std::array<Spring, 2>, 2> springs_;
    std::size_t channels_ = 1;
};

} // namespace

NodeType springNode()
{
    return {.type = "spring",
            .title = "Spring reverb",
            .about = "Two springs side by side: what goes round them comes back as chirps.",
            .channels = "any",
            .parameters = {numberSpec("decay", "s", 0.3, 5.0, "1.8", "60 dB"),
                           milliseconds("round", 35.0, 90.0, "44", "once round the first spring; longer is looser"),
                           hertz("corner", 2500.0, 6000.0, "4200",
                                 "above it a spring gives nothing; the nearest that "
                                 "the rate can hold is taken"),
                           mixSpec("0.25")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return madeNode<SpringReverb>(SpringReverb::Dials{numberOf(v, "decay"), numberOf(v, "round") * 1e-3,
                                                                  numberOf(v, "corner"), numberOf(v, "mix")});
            }};
}

} // namespace gristle::core
