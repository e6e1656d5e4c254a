#include "core/rig/nodes/circuit_amplifier.h"

#include "core/rig/circuit/circuit_solver.h"
#include "core/signal/oversampler.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kChunk = 128; // base frames at a time: the raised work stays in the first cache

class CircuitAmplifier final : public NodeProcessor {
public:
    CircuitAmplifier(Netlist netlist, double gain) : netlist_(std::move(netlist)), gain_(static_cast<float>(gain)) {}

    void prepare(const PrepareSpec& spec) override
    {
        sides_.clear();
        const std::size_t whole = Oversampler::factorFor(spec.rateHz);
        const std::size_t factor = spec.live ? std::max<std::size_t>(2, whole / 2) : whole;
        for (std::size_t c = 0; c < spec.channels; ++c) {
            sides_.push_back({Oversampler(factor), CircuitSolver(netlist_, spec.rateHz * double(factor))});
            sides_.back().over.prepare(kChunk);
        }
    }
    void reset() noexcept override
    {
        for (Side& side : sides_) {
            side.over.reset();
            side.circuit.reset();
        }
    }
    std::size_t latency() const noexcept override { return sides_.empty() ? 0 : sides_[0].over.latency(); }
    double tailSeconds() const noexcept override { return 1.0; } // until blocked grids and the supply have recovered

    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t at = 0; at < block.frames; at += kChunk) {
                const std::span<float> x(block.channel[c] + at, std::min(kChunk, block.frames - at));
                Side& side = sides_[c];
                const auto high = side.over.up(x);
                for (float& v : high) v = gain_ * static_cast<float>(side.circuit.step(double(v)));
                side.over.down(high, x);
            }
    }

private:
    struct Side {
        Oversampler over;
        CircuitSolver circuit;
    };
    Netlist netlist_;
    float gain_;
    std::vector<Side> sides_;
};

} // namespace

std::unique_ptr<NodeProcessor> circuitAmplifier(Voice voice, const AmplifierControls& controls, const Sag& sag,
                                                double outputGain)
{
    return std::make_unique<CircuitAmplifier>(amplifierNetlist(voice, controls, sag), outputGain);
}

} // namespace gristle::core
