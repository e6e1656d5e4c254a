#include "core/rig/nodes/nodes.h"

#include "core/rig/circuit/tone_stack.h"
#include "core/signal/biquad.h"
#include "core/signal/oversampler.h"
#include "core/signal/saturator.h"
#include "core/units/decibels.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kChunk = 128; // base frames at a time: the oversampled work stays in the first cache

// The voice "two-stage, early break-up". Gains and swings from a load line of our own (docs/voices.md); static shapes,
// not a solved circuit: bias does not shift and the supply does not sag.
constexpr double kFirstGain = 32.0, kFirstSwingV = 90.0, kFirstOffset = 0.12, kFirstCouplingHz = 28.0;
constexpr double kSecondGain = 36.0, kSecondSwingV = 90.0, kSecondOffset = -0.18;
constexpr double kPowerGain = 9.0, kPowerSwingV = 28.0; // 28 V peak: 49 W in 8 ohms
constexpr double kDividerGain = 0.35;                   // between the first two stages
constexpr double kMillerHz = 14000.0;                   // grid capacitance of the first stage
constexpr double kGridHz = 15000.0, kGridQ = 0.6;       // both grids behind the second stage together
constexpr double kOutputHz = 32.0;                      // transformer's lower corner
constexpr double kSpeakerDb = -30.0;                    // DESIGN.md: the loudspeaker's voltage less a fixed 30 dB

constexpr double kHardDrive = 6.0; // from there the second stage's edges ask for twice the rate

/// A pot with a logarithmic law of 30 dB that closes fully: 0 to 10 in, gain 0 to 1 out.
double taper(double turn)
{
    constexpr double kRange = 31.6;
    return (std::pow(kRange, turn / 10.0) - 1.0) / (kRange - 1.0);
}

struct Dials {
    double drive, bass, middle, treble, master;
};

class Side {
public:
    Side(const Dials& dials, double rateHz, Oversampler::Phase phase)
        : over_(std::max<std::size_t>(2, Oversampler::factorFor(rateHz) / (dials.drive > kHardDrive ? 1 : 2)), phase,
                kDelay),
          tone_(ToneStackParts{}, {dials.bass / 10.0, dials.middle / 10.0, dials.treble / 10.0},
                rateHz * double(over_.factor()))
    {
        const double high = rateHz * double(over_.factor());
        over_.prepare(kChunk);
        for (Saturator* s : {&first_, &second_, &power_}) s->prepare(kChunk * over_.factor());
        miller_ = OnePole::lowPass(kMillerHz, rateHz);
        coupling_ = OnePole::highPass(kFirstCouplingHz, high);
        output_ = OnePole::highPass(kOutputHz, rateHz);
        grid_.set(lowPass(kGridHz, kGridQ, high));
        drive_ = static_cast<float>(kDividerGain * taper(dials.drive));
        master_ = taper(dials.master);
    }

    void process(std::span<float> x) noexcept
    {
        miller_.process(x);
        const auto high = over_.up(x);
        first_.process(high, static_cast<float>(kFirstGain));
        coupling_.process(high);
        second_.process(high, static_cast<float>(kSecondGain) * drive_);
        network(high);
        power_.process(high, static_cast<float>(kPowerGain));
        over_.down(high, x);
        output_.process(x);
        const auto scale = static_cast<float>(dbToAmplitude(kSpeakerDb));
        for (float& v : x) v *= scale;
    }
    void reset() noexcept
    {
        over_.reset();
        for (Saturator* s : {&first_, &second_, &power_}) s->reset();
        for (OnePole* p : {&miller_, &coupling_, &output_}) p->reset();
        tone_.reset();
        grid_.reset();
    }
    std::size_t latency() const noexcept { return over_.latency(); }

private:
    /// The tone stack, which also keeps the second stage's DC from the power stage, and the grids' capacitance: without
    /// it the power stage would mix what the second one folds near the top of the raised rate back down.
    void network(std::span<float> high) noexcept
    {
        ToneStack tone = tone_; // in registers while the loop runs
        Biquad grid = grid_;
        for (float& v : high) v = static_cast<float>(master_ * tone.step(grid.step(double(v))));
        tone_ = tone;
        grid_ = grid;
    }

    Oversampler over_;
    OnePole miller_, coupling_, output_;
    static constexpr std::size_t kDelay = 7; ///< samples of the raised rate, in the three stages
    static_assert(Saturator::kPlainDelay + 2.0 * Saturator::kStrongDelay == double(kDelay));
    Saturator first_{kFirstOffset, kFirstSwingV}; // is never driven far
    Saturator second_{kSecondOffset, kSecondSwingV, Antialiasing::Strong};
    Saturator power_{0.0, kPowerSwingV, Antialiasing::Strong};
    ToneStack tone_;
    Biquad grid_;
    float drive_ = 1.0f;
    double master_ = 1.0;
};

class Amplifier final : public NodeProcessor {
public:
    explicit Amplifier(const Dials& dials) : dials_(dials) {}
    void prepare(const PrepareSpec& spec) override
    {
        sides_.clear();
        for (std::size_t c = 0; c < spec.channels; ++c) sides_.emplace_back(dials_, spec.rateHz, spec.phase());
    }
    void reset() noexcept override
    {
        for (Side& side : sides_) side.reset();
    }
    std::size_t latency() const noexcept override { return sides_.empty() ? 0 : sides_[0].latency(); }
    double tailSeconds() const noexcept override { return 0.15; } // 10.4 time constants of the slowest coupling
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t at = 0; at < block.frames; at += kChunk)
                sides_[c].process({block.channel[c] + at, std::min(kChunk, block.frames - at)});
    }

private:
    Dials dials_;
    std::vector<Side> sides_;
};

} // namespace

NodeType amplifierNode()
{
    return {.type = "amplifier",
            .title = "Amplifier, estimated",
            .about =
                "Two stages with early break-up, a passive tone stack solved as its network, a power stage. Gives the "
                "loudspeaker's voltage less 30 dB. An estimate: static stages, no bias shift, no sag.",
            .channels = "any",
            .parameters = {dial("drive", "5", "how hard the first stage hits the second"),
                           dial("bass", "5", "low end of the tone stack; interacts with the others"),
                           dial("middle", "5", "middle of the tone stack; interacts with the others"),
                           dial("treble", "5", "top of the tone stack; interacts with the others"),
                           dial("master", "4", "how hard the power stage is hit")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                const Dials dials{numberOf(v, "drive"), numberOf(v, "bass"), numberOf(v, "middle"),
                                  numberOf(v, "treble"), numberOf(v, "master")};
                return std::unique_ptr<NodeProcessor>(std::make_unique<Amplifier>(dials));
            }};
}

} // namespace gristle::core
