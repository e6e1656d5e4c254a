#include "core/rig/nodes/nodes.h"
#include "core/signal/biquad.h"
#include "core/signal/sinc_read.h"
#include "core/units/vectorised.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <numbers>

namespace gristle::core {

namespace {

/// Two springs a side, side by side. What comes in runs to a spring's far end, where it is heard, and back, is turned
/// over there, and runs again. On the way high frequencies fall behind low ones, the more of them the more often they
/// have gone round: the chirp of a coil. Above the corner a spring gives nothing; so all of this is computed at 2.4
/// times the corner, whatever the rate, and the time that the change of rates takes is a part of the first way.
/// Each delay, those inside the allpasses too, loses alike for its time: every frequency falls by 60 dB in the time
/// that is set, however long its way round. Four springs are four lanes of one vector. Source of the chain of allpasses
/// in a loop: Valimaki, Parker and Abel 2010, Parametric spring reverberation effect; the rest is our own.
class SpringReverb final : public NodeProcessor {
public:
    struct Dials {
        double decayS, roundS, cornerHz, mix;
    };
    explicit SpringReverb(const Dials& dials) : d_(dials) {}

    void prepare(const PrepareSpec& spec) override
    {
        channels_ = spec.channels;
        const double corner = std::min(d_.cornerHz, 0.4 * spec.rateHz), low = kOversampled * corner;
        perFrame_ = low / spec.rateHz;
        const double loss = -3.0 / (d_.decayS * low); // of a low frame, tens
        stay_ = float(std::pow(10.0, loss));
        for (std::size_t k = 0; k < kSprings; ++k) {
            const double round = d_.roundS * kRounds[k], inside = kSections * (1.0 - kA[k]) / (1.0 + kA[k]);
            // To the far end and back, less what the sections take of it at low frequencies.
            const double ring = std::max(double(kLate) + 1.0, std::round(0.5 * round * low - inside));
            const double kept = std::pow(10.0, -3.0 * round / d_.decayS); // once round
            for (std::size_t lane = k; lane < kLanes; lane += kSprings) {
                for (auto& way : ways_) way.rings[lane].assign(std::size_t(ring), 0.0f);
                a_[lane] = float(kA[k]);
                keptByRing_[lane] = float(std::pow(10.0, loss * ring));
                // Echoes of kept, kept^3, kept^5 ... of the energy: together as loud as what comes in.
                heard_[lane] =
                    float(std::pow(10.0, loss * (ring - kLate)) * std::sqrt((1.0 - kept * kept) / kept / 2.0));
            }
        }
        for (Side& side : sides_) {
            for (std::size_t k = 0; k < side.top.size(); ++k) // Butterworth of the eighth order
                side.top[k] = Biquad(lowPass(corner, 0.5 / std::cos(std::numbers::pi * (double(k) + 0.5) / 8.0), low));
            side.block = OnePole::highPass(kLowHz, low);
        }
        reset();
    }
    void reset() noexcept override
    {
        for (Way& way : ways_) {
            way.states.fill(Four{});
            way.at.fill(0);
            for (auto& ring : way.rings) std::ranges::fill(ring, 0.0f);
        }
        for (Side& side : sides_) {
            side.in.fill(0.0f), side.out.fill(0.0f);
            for (Biquad& b : side.top) b.reset();
            side.block.reset();
        }
        back_ = Four{};
        phase_ = 0.0;
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const SpringReverb&>(other);
        if (perFrame_ != before.perFrame_) return;
        for (std::size_t w = 0; w < ways_.size(); ++w)
            for (std::size_t lane = 0; lane < kLanes; ++lane)
                if (ways_[w].rings[lane].size() != before.ways_[w].rings[lane].size()) return;
        for (std::size_t w = 0; w < ways_.size(); ++w) {
            ways_[w].states = before.ways_[w].states;
            ways_[w].at = before.ways_[w].at;
            for (std::size_t lane = 0; lane < kLanes; ++lane)
                std::ranges::copy(before.ways_[w].rings[lane], ways_[w].rings[lane].begin());
        }
        sides_ = before.sides_;
        back_ = before.back_;
        phase_ = before.phase_;
    }
    double tailSeconds() const noexcept override { return 1.5 * d_.decayS + 2.0 * d_.roundS; }
    void process(AudioBlock& block) noexcept override { run(block); }

private:
    static constexpr std::size_t kSprings = 2, kLanes = 2 * kSprings; ///< of a side; of both
    static constexpr std::size_t kSections = 40;                      ///< of a way
    static constexpr std::size_t kLate = kSincTaps;                   ///< low frames that going down and up again takes
    static constexpr double kOversampled = 2.4, kLowHz = 40.0;
    /// The second spring is longer and chirps less, so that their echoes do not fall together.
    static constexpr std::array<double, kSprings> kRounds{1.0, 1.2272}, kA{0.62, 0.57};

    typedef float Four __attribute__((vector_size(16)));

    /// From one end to the other.
    struct Way {
        std::array<Four, kSections> states{};
        std::array<std::vector<float>, kLanes> rings;
        std::array<std::size_t, kLanes> at{}; ///< the oldest
    };
    struct Side {
        SincTaps in{}, out{}; ///< low frames that are not whole yet; those that have come out, the newest last
        std::array<Biquad, 4> top;
        OnePole block;
    };

    void run(AudioBlock& block) noexcept;
    void stepLow() noexcept;
    Four through(Way& way, Four x, float* tap) const noexcept;

    Dials d_;
    std::size_t channels_ = 1;
    double perFrame_ = 1.0, phase_ = 0.0; ///< low frames; of them since the last
    std::array<Way, 2> ways_;
    Four a_{}, heard_{}, keptByRing_{};
    Four back_{}; ///< what has come back to the near end
    float stay_ = 1.0f;
    std::array<Side, 2> sides_;
};

/// @param tap  if not null, what comes out of the rings kLate frames before their ends
SpringReverb::Four SpringReverb::through(Way& way, Four x, float* tap) const noexcept
{
    const Four a = a_;
    const float stay = stay_;
    for (Four& state : way.states) {
        const Four v = x - a * state;
        x = a * v + state;
        state = stay * v;
    }
    Four end;
    for (std::size_t lane = 0; lane < kLanes; ++lane) {
        std::vector<float>& ring = way.rings[lane];
        std::size_t& at = way.at[lane];
        if (tap) tap[lane] = ring[(at + kLate) % ring.size()];
        end[lane] = ring[at];
        ring[at] = x[lane];
        if (++at == ring.size()) at = 0;
    }
    return end * keptByRing_;
}

/// One low frame: the oldest that is whole goes in, another comes out.
void SpringReverb::stepLow() noexcept
{
    Four in{};
    for (std::size_t lane = 0; lane < kLanes; ++lane) in[lane] = sides_[lane / kSprings].in[0] * float(perFrame_);
    float heard[kLanes];
    const Four far = through(ways_[0], in - back_, heard);
    back_ = through(ways_[1], far, nullptr);
    for (std::size_t c = 0; c < 2; ++c) {
        Side& side = sides_[c];
        std::memmove(side.in.data(), side.in.data() + 1, (kSincTaps - 1) * sizeof(float));
        side.in.back() = 0.0f;
        double y = 0.0;
        for (std::size_t k = kSprings * c; k < kSprings * (c + 1); ++k) y += double(heard[k] * heard_[k]);
        y = side.block.step(y);
        for (Biquad& b : side.top) y = b.step(y);
        std::memmove(side.out.data(), side.out.data() + 1, (kSincTaps - 1) * sizeof(float));
        side.out.back() = float(y);
    }
}

/// Down to the low rate by spreading each frame over the low ones around it, up by reading between them: both by the
/// same sinc, as both stand at the same place between low frames.
GRISTLE_VECTORISED
void SpringReverb::run(AudioBlock& block) noexcept
{
    const auto dry = float(std::sqrt(1.0 - d_.mix * d_.mix)), mix = float(d_.mix);
    for (std::size_t i = 0; i < block.frames; ++i) {
        if ((phase_ += perFrame_) >= 1.0) {
            phase_ -= 1.0;
            stepLow();
        }
        const SincTaps taps = sincTaps(1.0 - phase_);
        for (std::size_t c = 0; c < channels_; ++c) {
            Side& side = sides_[c];
            float& x = block.channel[c][i];
            FloatLane sums{};
            for (std::size_t k = 0; k < kSincTaps; k += kFloatLane) {
                FloatLane tap, in, out;
                load(tap, &taps[k]), load(in, &side.in[k]), load(out, &side.out[k]);
                in += tap * x;
                std::memcpy(&side.in[k], &in, sizeof in);
                sums += tap * out;
            }
            float wet = 0.0f;
            for (std::size_t k = 0; k < kFloatLane; ++k) wet += sums[k];
            x = dry * x + mix * wet;
        }
    }
}

} // namespace

NodeType springNode()
{
    return {.type = "spring",
            .title = "Spring reverb",
            .about = "Two springs side by side: what goes round them comes back as chirps. The wet sound is as "
                     "loud as the dry one.",
            .channels = "any",
            .parameters = {numberSpec("decay", "s", 0.3, 5.0, "1.8", "60 dB, at each frequency"),
                           milliseconds(
                               "round", 35.0, 90.0, "44",
                               "there and back in the first spring, its first echo after half of it; longer is looser"),
                           hertz("corner", 2500.0, 6000.0, "4200", "above it a spring gives nothing"), mixSpec("0.25")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return madeNode<SpringReverb>(SpringReverb::Dials{numberOf(v, "decay"), numberOf(v, "round") * 1e-3,
                                                                  numberOf(v, "corner"), numberOf(v, "mix")});
            }};
}

} // namespace gristle::core
