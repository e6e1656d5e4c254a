#include "core/rig/nodes/nodes.h"

#include "core/stereo/pan_law.h"

namespace gristle::core {

namespace {

class Place final : public NodeProcessor {
public:
    Place(double place, PanLaw law) : mono_(panMono(place, law)), stereo_(panStereo(place, law)) {}
    void prepare(const PrepareSpec&) override {}
    void reset() noexcept override {}
    std::size_t outputChannels(std::size_t) const noexcept override { return 2; }
    void process(AudioBlock& block) noexcept override
    {
        const PanGains& gains = block.channels == 1 ? mono_ : stereo_;
        const float left = static_cast<float>(gains.left), right = static_cast<float>(gains.right);
        const float* const from = block.channel[block.channels == 1 ? 0 : 1];
        for (std::size_t i = 0; i < block.frames; ++i) {
            const float r = right * from[i];
            block.channel[0][i] *= left;
            block.channel[1][i] = r;
        }
        block.channels = 2;
    }

private:
    PanGains mono_, stereo_;
};

} // namespace

NodeType placeNode()
{
    return {.type = "place",
            .title = "Place",
            .about = "Puts a lane between left and right. A sound that is stereo already keeps its own picture and is "
                     "leaned to one side. The place of a layer is set in Blend, not here.",
            .channels = "1 to 2",
            .parameters = {{.key = "at",
                            .label = "place",
                            .min = -100.0,
                            .max = 100.0,
                            .initial = "0",
                            .about = "-100 is left, 100 is right"},
                           {.key = "law",
                            .label = "law",
                            .unit = "dB",
                            .kind = ParameterKind::Choice,
                            .initial = "3",
                            .choices = {"3", "4.5", "6"},
                            .about = "what the centre loses on each side"}},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                const auto law = parsePanLaw(textOf(v, "law"));
                if (!law) return law.error();
                return std::unique_ptr<NodeProcessor>(std::make_unique<Place>(numberOf(v, "at"), *law));
            }};
}

} // namespace gristle::core
