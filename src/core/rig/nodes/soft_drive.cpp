#include "core/rig/nodes/nodes.h"

#include "core/signal/biquad.h"
#include "core/signal/oversampler.h"
#include "core/signal/saturator.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kCeilingV = 0.5;    // where a pair of small-signal diodes in a feedback loop holds the output, about
constexpr double kCouplingHz = 70.0; // keeps the low end from being driven into mud
constexpr std::size_t kChunk = 128;  // base frames at a time: the oversampled work stays in the first cache

/// Gain into one smooth saturation at a raised rate, then a top cut and a level.
class SoftDrive final : public NodeProcessor {
public:
    SoftDrive(double driveDb, double toneHz, double levelDb)
        : drive_(static_cast<float>(dbToAmplitude(driveDb))), toneHz_(toneHz),
          level_(static_cast<float>(dbToAmplitude(levelDb)))
    {}

    void prepare(const PrepareSpec& spec) override
    {
        sides_.clear();
        for (std::size_t c = 0; c < spec.channels; ++c) {
            Side& side = sides_.emplace_back();
            side.oversampler = Oversampler(Oversampler::factorFor(spec.rateHz), spec.phase(),
                                           std::size_t(std::lround(Saturator::kStrongDelay)));
            side.oversampler.prepare(kChunk);
            side.shape.prepare(kChunk * side.oversampler.factor());
            side.coupling = OnePole::highPass(kCouplingHz, spec.rateHz);
            side.tone = OnePole::lowPass(toneHz_, spec.rateHz);
        }
    }
    void reset() noexcept override
    {
        for (Side& side : sides_) {
            side.oversampler.reset();
            side.shape.reset();
            side.coupling.reset();
            side.tone.reset();
        }
    }
    std::size_t latency() const noexcept override { return sides_.empty() ? 0 : sides_[0].oversampler.latency(); }
    double tailSeconds() const noexcept override { return 0.03; } // 10.4 time constants of the coupling

    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c) {
            Side& side = sides_[c];
            for (std::size_t at = 0; at < block.frames; at += kChunk) {
                const std::span<float> x(block.channel[c] + at, std::min(kChunk, block.frames - at));
                side.coupling.process(x);
                const auto high = side.oversampler.up(x);
                side.shape.process(high, drive_);
                side.oversampler.down(high, x);
                side.tone.process(x);
                for (float& v : x) v *= level_;
            }
        }
    }

private:
    struct Side {
        Oversampler oversampler;
        Saturator shape{0.0, kCeilingV, Antialiasing::Strong};
        OnePole coupling, tone;
    };
    float drive_;
    double toneHz_;
    float level_;
    std::vector<Side> sides_;
};

} // namespace

NodeType softDriveNode()
{
    return {.type = "drive",
            .title = "Soft drive",
            .about =
                "Pushes into one smooth saturation with its knee near half a volt; the low end is thinned a little "
                "first, so that chords stay clear. Little drive and much level pushes what comes behind.",
            .channels = "any",
            .parameters = {{.key = "drive",
                            .label = "drive",
                            .unit = "dB",
                            .min = 0.0,
                            .max = 50.0,
                            .initial = "12",
                            .about = "gain ahead of the saturation"},
                           {.key = "tone",
                            .label = "tone",
                            .unit = "Hz",
                            .min = 700.0,
                            .max = 12000.0,
                            .initial = "4500",
                            .scale = Scale::Logarithmic,
                            .about = "top cut behind it, 6 dB an octave"},
                           {.key = "level",
                            .label = "level",
                            .unit = "dB",
                            .min = -30.0,
                            .max = 30.0,
                            .initial = "0",
                            .about = "gain behind it"}},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return std::unique_ptr<NodeProcessor>(
                    std::make_unique<SoftDrive>(numberOf(v, "drive"), numberOf(v, "tone"), numberOf(v, "level")));
            }};
}

} // namespace gristle::core
