#include "core/rig/nodes/nodes.h"
#include "core/signal/biquad.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace gristle::core {

namespace {

/// Sixteen delay lines that feed each other through a Hadamard matrix; each loses just as much as its length asks for,
/// so every frequency decays by 60 dB in the time that is set. Its sound is as loud as what comes in, however long it
/// rings. Source: Jot and Chaigne 1991, Digital delay networks for designing artificial reverberators; Schroeder 1962
/// (allpass diffusion before it).
class Reverb final : public NodeProcessor {
public:
    struct Dials {
        double shortestS, longestS; ///< of the lines
        int diffusers;
        double decayS, low, high, preS, lowCutHz, highCutHz, bellHz, bellDb, mix;
    };
    explicit Reverb(const Dials& dials) : d_(dials) {}

    void prepare(const PrepareSpec& spec) override
    {
        const double rate = spec.rateHz;
        double kept = 0.0; // of the energy, in one passage
        std::size_t before = 0;
        for (std::size_t k = 0; k < kLines; ++k) {
            const double wish = d_.shortestS * std::pow(d_.longestS / d_.shortestS, double(k) / (kLines - 1));
            const std::size_t length = primeFrom(std::max(before + 1, std::size_t(wish * rate)));
            before = length;
            Line& line = lines_[k];
            line.ring.assign(length, 0.0f);
            const double mid = -60.0 * double(length) / rate / d_.decayS;
            line.gain = dbToAmplitude(mid);
            line.low = Biquad(lowShelf(kLowHz, mid * (1.0 / d_.low - 1.0), rate));
            line.high = Biquad(highShelf(kHighHz, mid * (1.0 / d_.high - 1.0), rate));
            kept += dbToPower(mid) / kLines;
        }
        // Lines that keep `kept` of the energy hold 1 / (1 - kept) of what comes in, and give `kept` of that.
        out_ = std::sqrt((1.0 - kept) / kept);
        diffusers_.clear();
        for (int k = 0; k < d_.diffusers; ++k)
            diffusers_.push_back(std::vector<float>(primeFrom(std::size_t(kDiffuserS[std::size_t(k)] * rate))));
        pre_.assign(std::size_t(d_.preS * rate) + 1, 0.0f);
        for (auto& side : wet_) {
            side[0] = Biquad(highPass(std::max(5.0, d_.lowCutHz), 0.7071, rate));
            side[1] = Biquad(lowPass(std::min(d_.highCutHz, 0.45 * rate), 0.7071, rate));
            side[2] = Biquad(bell(d_.bellHz, d_.bellDb, 1.0, rate));
        }
        reset();
    }
    void reset() noexcept override
    {
        for (Line& line : lines_) {
            std::ranges::fill(line.ring, 0.0f);
            line.at = 0;
            line.low.reset(), line.high.reset();
        }
        for (auto& ring : diffusers_) std::ranges::fill(ring, 0.0f);
        std::ranges::fill(pre_, 0.0f);
        for (auto& side : wet_)
            for (Biquad& b : side) b.reset();
        now_ = 0;
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Reverb&>(other);
        for (std::size_t k = 0; k < kLines; ++k)
            if (lines_[k].ring.size() == before.lines_[k].ring.size()) {
                std::ranges::copy(before.lines_[k].ring, lines_[k].ring.begin());
                lines_[k].at = before.lines_[k].at;
            }
    }
    std::size_t outputChannels(std::size_t) const noexcept override { return 2; }
    double tailSeconds() const noexcept override
    {
        return d_.preS + d_.longestS + 1.5 * d_.decayS * std::max(d_.low, 1.0);
    }
    void process(AudioBlock& block) noexcept override
    {
        const bool wasMono = block.channels == 1;
        block.channels = 2;
        for (std::size_t i = 0; i < block.frames; ++i, ++now_) {
            const float left = block.channel[0][i], right = wasMono ? left : block.channel[1][i];
            pre_[now_ % pre_.size()] = 0.5f * (left + right);
            float x = pre_[(now_ + 1) % pre_.size()]; // the oldest
            for (auto& ring : diffusers_) {
                float& slot = ring[now_ % ring.size()];
                const float v = x - kDiffusion * slot;
                x = kDiffusion * v + slot;
                slot = v;
            }
            std::array<float, kLines> y;
            double wet[2] = {0.0, 0.0};
            for (std::size_t k = 0; k < kLines; ++k) {
                Line& line = lines_[k];
                y[k] = float(line.gain * line.high.step(line.low.step(double(line.ring[line.at]))));
                wet[0] += k % 2 == 0 ? double(y[k]) : -double(y[k]);
                wet[1] += k / 2 % 2 == 0 ? double(y[k]) : -double(y[k]);
            }
            hadamard(y);
            for (std::size_t k = 0; k < kLines; ++k) {
                Line& line = lines_[k];
                line.ring[line.at] = y[k] + (k / 4 % 2 == 0 ? 0.25f : -0.25f) * x;
                if (++line.at == line.ring.size()) line.at = 0;
            }
            const float dry[2] = {left, right};
            for (std::size_t side = 0; side < 2; ++side) {
                double w = out_ * wet[side];
                for (Biquad& b : wet_[side]) w = b.step(w);
                block.channel[side][i] = float((1.0 - d_.mix) * double(dry[side]) + d_.mix * w);
            }
        }
    }

private:
    static constexpr std::size_t kLines = 16;
    static constexpr double kLowHz = 200.0, kHighHz = 5000.0;
    static constexpr float kDiffusion = 0.6f;
    static constexpr std::array<double, 4> kDiffuserS{0.0047, 0.0036, 0.0127, 0.0093};

    struct Line {
        std::vector<float> ring;
        std::size_t at = 0;
        double gain = 0.0;
        Biquad low, high;
    };

    /// The next prime: lengths without a common measure, so that echoes do not fall together.
    static std::size_t primeFrom(std::size_t n)
    {
        const auto isPrime = [](std::size_t v) {
            for (std::size_t f = 2; f * f <= v; ++f)
                if (v % f == 0) return false;
            return v > 1;
        };
        while (!isPrime(n)) ++n;
        return n;
    }
    /// Orthogonal, by sums and differences.
    static void hadamard(std::array<float, kLines>& y) noexcept
    {
        for (std::size_t step = 1; step < kLines; step *= 2)
            for (std::size_t k = 0; k < kLines; k += 2 * step)
                for (std::size_t j = k; j < k + step; ++j) {
                    const float a = y[j], b = y[j + step];
                    y[j] = a + b, y[j + step] = a - b;
                }
        for (float& v : y) v *= 0.25f;
    }

    Dials d_;
    std::array<Line, kLines> lines_;
    std::vector<std::vector<float>> diffusers_;
    std::vector<float> pre_;
    std::array<std::array<Biquad, 3>, 2> wet_;
    double out_ = 1.0;
    std::size_t now_ = 0;
};

} // namespace

NodeType reverbNode()
{
    return {.type = "reverb",
            .title = "Reverb",
            .about = "A room, a hall or a plate. The wet sound is as loud as the dry one, however long it rings.",
            .channels = "1 to 2",
            .parameters = {choiceSpec("kind", {"room", "hall", "plate"}, "room",
                                      "room: near walls; hall: far ones; plate: dense from the first moment"),
                           numberSpec("decay", "s", 0.1, 12.0, "1.2", "60 dB in the middle of the spectrum"),
                           numberSpec("low", "", 0.3, 2.0, "1", "how long the low end rings, over that"),
                           numberSpec("high", "", 0.1, 1.0, "0.5", "how long the top rings, over that"),
                           numberSpec("pre", "ms", 0.0, 250.0, "12", "before the first of it"),
                           hertz("low_cut", 20.0, 1000.0, "120", "of the wet sound, 12 dB an octave"),
                           hertz("high_cut", 1000.0, 20000.0, "8000", "of the wet sound, 12 dB an octave"),
                           hertz("bell_hz", 100.0, 8000.0, "800", "of the wet sound"),
                           decibels("bell_db", -18.0, 18.0, "0", "of the wet sound, an octave wide"), mixSpec("0.2")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                const std::string& kind = textOf(v, "kind");
                Reverb::Dials d{};
                if (kind == "room") d.shortestS = 0.009, d.longestS = 0.031, d.diffusers = 2;
                if (kind == "hall") d.shortestS = 0.029, d.longestS = 0.093, d.diffusers = 3;
                if (kind == "plate") d.shortestS = 0.013, d.longestS = 0.043, d.diffusers = 4;
                const auto n = [&](const char* key) { return numberOf(v, key); };
                d.decayS = n("decay"), d.low = n("low"), d.high = n("high"), d.preS = n("pre") * 1e-3;
                d.lowCutHz = n("low_cut"), d.highCutHz = n("high_cut"), d.bellHz = n("bell_hz");
                d.bellDb = n("bell_db"), d.mix = n("mix");
                return madeNode<Reverb>(d);
            }};
}

} // namespace gristle::core
