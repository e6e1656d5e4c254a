#include "core/rig/nodes/loading.h"

#include "core/rig/nodes/nodes.h"
#include "core/signal/live_convolver.h"

namespace gristle::core {

namespace {

constexpr std::size_t kTaps = 1024;
constexpr double kBufferAtGuitarM = 0.5;

class Loading final : public NodeProcessor {
public:
    Loading(const GuitarCircuit& taken, const GuitarCircuit& wanted) : taken_(taken), wanted_(wanted) {}
    void prepare(const PrepareSpec& spec) override
    {
        const auto filter = loadingFilter(taken_, wanted_, spec.rateHz, kTaps);
        sides_.clear();
        for (std::size_t c = 0; c < spec.channels; ++c) sides_.emplace_back(filter, spec.live);
        tailS_ = double(kTaps) / spec.rateHz;
    }
    void reset() noexcept override
    {
        for (auto& side : sides_) side.reset();
    }
    std::size_t latency() const noexcept override { return sides_.empty() ? 0 : sides_[0].latency(); }
    double tailSeconds() const noexcept override { return tailS_; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c) sides_[c].process({block.channel[c], block.frames});
    }

private:
    GuitarCircuit taken_, wanted_;
    std::vector<Convolution> sides_;
    double tailS_ = 0.0;
};

ParameterSpec number(const char* key, const char* label, const char* unit, double min, double max, const char* initial,
                     const char* about, Scale scale = Scale::Linear)
{
    return {.key = key,
            .label = label,
            .unit = unit,
            .min = min,
            .max = max,
            .initial = initial,
            .scale = scale,
            .about = about};
}

} // namespace

GuitarCircuit guitarCircuitOf(const ParameterValues& v)
{
    GuitarCircuit g;
    for (const PickupKind& kind : pickupKinds())
        if (textOf(v, "pickup") == kind.key) g.pickup = kind.pickup;
    if (const double h = numberOf(v, "henry"); h > 0.0) g.pickup.inductanceH = h;
    if (const double r = numberOf(v, "coil_kohm"); r > 0.0) g.pickup.resistanceOhm = r * 1e3;
    if (const double c = numberOf(v, "coil_pf"); c > 0.0) g.pickup.capacitanceF = c * 1e-12;
    g.controls.volumeOhm = g.controls.toneOhm = numberOf(v, "pots") * 1e3;
    g.controls.toneF = numberOf(v, "tone_nf") * 1e-9;
    g.controls.volume = numberOf(v, "volume");
    g.controls.tone = numberOf(v, "tone");
    g.controls.wiring = textOf(v, "wiring") == "before" ? ToneWiring::BeforeVolume : ToneWiring::AfterVolume;
    g.cable.metres = numberOf(v, "cable");
    g.cable.pFPerMetre = numberOf(v, "pf");
    g.input.ohm = numberOf(v, "input") * 1e3;
    if (const auto& where = textOf(v, "buffer"); where != "off") {
        g.buffer = Buffer{};
        g.buffer->after = g.cable;
        const double before = where == "guitar" ? std::min(kBufferAtGuitarM, g.cable.metres) : g.cable.metres;
        g.buffer->after.metres -= before;
        g.cable.metres = before;
    }
    return g;
}

std::optional<double> typicalValue(const NodeType& type, const ParameterValues& values, const std::string& key)
{
    if (type.type != "loading") return std::nullopt;
    for (const PickupKind& kind : pickupKinds()) {
        if (textOf(values, "pickup") != kind.key) continue;
        if (key == "henry") return kind.pickup.inductanceH;
        if (key == "coil_kohm") return kind.pickup.resistanceOhm * 1e-3;
        if (key == "coil_pf") return kind.pickup.capacitanceF * 1e12;
    }
    return std::nullopt;
}

GuitarCircuit takenCircuitOf(const ParameterValues& v)
{
    GuitarCircuit g = guitarCircuitOf(v);
    g.buffer.reset();
    g.controls.volume = g.controls.tone = 10.0;
    g.cable.metres = numberOf(v, "taken_cable");
    g.input.ohm = numberOf(v, "taken_input") * 1e3;
    return g;
}

NodeType loadingNode()
{
    std::vector<std::string> kinds;
    for (const PickupKind& kind : pickupKinds()) kinds.push_back(kind.key);
    return {.type = "loading",
            .title = "Loading",
            .about = "What cable, input and controls do to the pickup: the DI as it would have come through this, from "
                     "how it was taken (volume and tone full up). A circuit with typical values; an estimate for any "
                     "one guitar.",
            .channels = "any",
            .parameters =
                {{.key = "pickup",
                  .label = "pickup",
                  .kind = ParameterKind::Choice,
                  .initial = "narrow",
                  .choices = kinds,
                  .about = "narrow: one narrow coil; wide: one wide flat coil; double: two coils against hum; hot: two "
                           "coils, many turns"},
                 number("henry", "inductance", "H", 0.0, 20.0, "0", "of the pickup; 0: typical for its kind"),
                 number("coil_kohm", "coil resistance", "k\u03a9", 0.0, 50.0, "0", "0: typical for its kind"),
                 number("coil_pf", "coil capacitance", "pF", 0.0, 1000.0, "0", "0: typical for its kind"),
                 number("pots", "controls", "k\u03a9", 25.0, 2000.0, "500", "volume and tone control"),
                 number("tone_nf", "tone capacitor", "nF", 1.0, 100.0, "22", "in the guitar"),
                 number("volume", "volume", "", 0.0, 10.0, "10", "on the guitar"),
                 number("tone", "tone", "", 0.0, 10.0, "10", "on the guitar"),
                 {.key = "wiring",
                  .label = "tone control",
                  .kind = ParameterKind::Choice,
                  .initial = "before",
                  .choices = {"before", "after"},
                  .about = "before or after the volume control"},
                 number("cable", "cable", "m", 0.0, 100.0, "6", "from the guitar to the input"),
                 number("pf", "cable capacitance", "pF/m", 10.0, 500.0, "100", "per metre"),
                 number("input", "input", "k\u03a9", 1.0, 20000.0, "1000", "impedance of what it is plugged into",
                        Scale::Logarithmic),
                 {.key = "buffer",
                  .label = "buffer",
                  .kind = ParameterKind::Choice,
                  .initial = "off",
                  .choices = {"off", "guitar", "input"},
                  .about = "a stage of 1 M\u03a9: half a metre from the guitar, or at the end of the cable, before the "
                           "input"},
                 number("taken_cable", "taken with cable", "m", 0.0, 100.0, "6", "when the DI was recorded"),
                 number("taken_input", "taken with input", "k\u03a9", 1.0, 20000.0, "1000", "when the DI was recorded",
                        Scale::Logarithmic)},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return std::unique_ptr<NodeProcessor>(std::make_unique<Loading>(takenCircuitOf(v), guitarCircuitOf(v)));
            }};
}

} // namespace gristle::core
