#include "core/rig/nodes/nodes.h"

#include "core/rig/circuit/voices.h"
#include "core/rig/nodes/circuit_side.h"
#include "core/units/decibels.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr double kLeastSagOhm = 30.0, kMoreSagOhm = 300.0, kReservoirF = 47e-6;
// At 48 kHz 7 times for playing; 16 for rendering, 32 and 64 where the power stage is hit so hard that more would fold.
constexpr double kPlayingHz = 335e3;
constexpr double kHitHardClean = 0.6, kHitHardTight = 0.7; // of the master's turn
constexpr double kHardest = 0.9;                           // of the tight voice's drive and master
constexpr double kSpeakerDb = -30.0;                       // DESIGN.md: the loudspeaker's voltage less a fixed 30 dB
constexpr double kLineDb = -20.0;                          // line level against what a preamp gives a power stage

/// A voice at work. Each channel has an amplifier of its own.
class CircuitAmplifier final : public NodeProcessor {
public:
    /// @param finer  how many times finer than usual it is rendered: a power of two
    CircuitAmplifier(std::vector<Netlist> sections, std::size_t finer, double inDb, double outDb)
        : sections_(std::move(sections)), finer_(finer), inGain_(dbToAmplitude(inDb)),
          outGain_(static_cast<float>(dbToAmplitude(outDb)))
    {}

    void prepare(const PrepareSpec& spec) override
    {
        sides_.clear();
        const std::size_t usual = Oversampler::factorFor(spec.rateHz);
        const std::size_t factor = spec.effort == Effort::Full    ? 2 * finer_ * usual
                                   : spec.effort == Effort::Draft ? std::max<std::size_t>(2, usual / 2)
                                                                  : Oversampler::factorFor(spec.rateHz, kPlayingHz);
        for (std::size_t c = 0; c < spec.channels; ++c)
            sides_.emplace_back(sections_, spec.rateHz, factor, spec.phase(), spec.maxBlock);
    }
    void reset() noexcept override
    {
        for (CircuitSide& side : sides_) side.reset();
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const CircuitAmplifier&>(other).sides_;
        for (std::size_t c = 0; c < std::min(sides_.size(), before.size()); ++c) sides_[c].takeOver(before[c]);
    }
    std::size_t latency() const noexcept override { return sides_.empty() ? 0 : sides_[0].latency(); }
    double tailSeconds() const noexcept override { return 1.0; } // until blocked grids and the supply have recovered
    bool takesLong() const noexcept override { return true; }

    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            sides_[c].process({block.channel[c], block.frames}, inGain_, outGain_);
    }

    std::vector<std::size_t> beginParts(const AudioBlock& block) override
    {
        std::vector<std::size_t> ends; // of each channel the same
        for (std::size_t c = 0; c < block.channels; ++c) ends = sides_[c].beginParts({block.channel[c], block.frames});
        return ends;
    }
    void takeIn(std::size_t at, std::size_t frames) noexcept override
    {
        for (CircuitSide& side : sides_) side.takeIn(at, frames);
    }
    void playPart(std::size_t part) noexcept override
    {
        for (CircuitSide& side : sides_) side.playPart(part, inGain_, outGain_);
    }
    void handOut(std::size_t part) noexcept override
    {
        for (CircuitSide& side : sides_) side.handOut(part, inGain_, outGain_);
    }

private:
    std::vector<Netlist> sections_;
    std::size_t finer_;
    double inGain_;
    float outGain_;
    std::vector<CircuitSide> sides_;
};

ParameterSpec inPreamp(ParameterSpec spec)
{
    spec.onlyIf = {"part", {"whole", "preamp"}};
    return spec;
}
ParameterSpec inPower(ParameterSpec spec)
{
    spec.onlyIf = {"part", {"whole", "power"}};
    return spec;
}

} // namespace

NodeType circuitAmplifierNode()
{
    return {.type = "circuit",
            .title = "Amplifier, solved",
            .about =
                "An amplifier solved as its circuit, from its socket to the loudspeaker's terminals, less 30 dB: bias "
                "shifts, grids block and recover, the supply sags, every control works as its part of the network.",
            .channels = "any",
            .parameters = {{.key = "voice",
                            .label = "voice",
                            .kind = ParameterKind::Choice,
                            .initial = "clean",
                            .choices = {"clean", "tight"},
                            .about = "clean: headroom, breaks up late; tight: a cascade with a lean low end"},
                           {.key = "part",
                            .label = "part",
                            .kind = ParameterKind::Choice,
                            .initial = "whole",
                            .choices = {"whole", "preamp", "power"},
                            .about = "preamp: line level comes out behind the master; power: line level goes in there"},
                           inPreamp(dial("drive", "5", "how hard the first stage hits the next")),
                           inPreamp(dial("bass", "5", "low end of the tone stack; interacts with the others")),
                           inPreamp(dial("middle", "5", "middle of the tone stack; interacts with the others")),
                           inPreamp(dial("treble", "5", "top of the tone stack; interacts with the others")),
                           inPreamp(dial("master", "4", "how hard the power stage is hit")),
                           inPower(dial("presence", "5", "takes the top out of the power stage's feedback")),
                           inPower(dial("depth", "5", "takes the low end out of it")),
                           inPower(dial("sag", "3", "how far the supply gives way under load"))},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                const auto at = [&](const char* key) { return numberOf(v, key) / 10.0; };
                const AmplifierControls controls{at("drive"),  at("bass"),     at("middle"), at("treble"),
                                                 at("master"), at("presence"), at("depth")};
                const Sag sag{kLeastSagOhm + kMoreSagOhm * at("sag") * at("sag"), kReservoirF};
                const Voice voice = textOf(v, "voice") == "clean" ? Voice::CleanHeadroom : Voice::TightCascade;
                const std::string& part = textOf(v, "part");
                const bool isPreamp = part == "preamp", isPower = part == "power"; // whatever comes in there
                const double hitHard = voice == Voice::CleanHeadroom ? kHitHardClean : kHitHardTight;
                const bool isHitHard = isPower || (!isPreamp && controls.master > hitHard),
                           isHitHardest = isHitHard && voice == Voice::TightCascade &&
                                          std::min(controls.drive, controls.master) > kHardest;
                return std::unique_ptr<NodeProcessor>(
                    std::make_unique<CircuitAmplifier>(amplifierSections(voice, controls, sag,
                                                                         isPreamp  ? AmplifierPart::Preamp
                                                                         : isPower ? AmplifierPart::Power
                                                                                   : AmplifierPart::Whole),
                                                       isHitHardest ? 4
                                                       : isHitHard  ? 2
                                                                    : 1,
                                                       isPower ? -kLineDb : 0.0, isPreamp ? kLineDb : kSpeakerDb));
            }};
}

} // namespace gristle::core
