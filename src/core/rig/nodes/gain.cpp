#include "core/rig/nodes/nodes.h"

#include "core/units/decibels.h"

namespace gristle::core {

namespace {

class Gain final : public NodeProcessor {
public:
    explicit Gain(double db) : gain_(static_cast<float>(dbToAmplitude(db))) {}
    void prepare(const PrepareSpec&) override {}
    void reset() noexcept override {}
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t i = 0; i < block.frames; ++i) block.channel[c][i] *= gain_;
    }

private:
    float gain_;
};

} // namespace

NodeType gainNode()
{
    return {.type = "gain",
            .title = "Gain",
            .about = "Louder or softer, nothing else: what stands behind it is hit harder or less hard.",
            .channels = "any",
            .parameters = {{.key = "db",
                            .label = "gain",
                            .unit = "dB",
                            .min = -60.0,
                            .max = 60.0,
                            .initial = "0",
                            .about = "by how much"}},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return std::unique_ptr<NodeProcessor>(std::make_unique<Gain>(numberOf(v, "db")));
            }};
}

} // namespace gristle::core
