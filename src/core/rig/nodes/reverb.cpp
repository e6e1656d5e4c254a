#include "core/rig/nodes/nodes.h"
#include "core/signal/biquad.h"
#include "core/units/decibels.h"
#include "core/units/vectorised.h"

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
            if (k == 0) chunk_ = std::min(kMostChunk, length);
            const double mid = -60.0 * double(length) / rate / d_.decayS;
            low_.set(k, lowShelf(kLowHz, mid * (1.0 / d_.low - 1.0), rate), dbToAmplitude(mid));
            high_.set(k, highShelf(kHighHz, mid * (1.0 / d_.high - 1.0), rate), 1.0);
            kept += dbToPower(mid) / kLines;
        }
        // Lines that keep `kept` of the energy hold 1 / (1 - kept) of what comes in, and give `kept` of that.
        out_ = std::sqrt((1.0 - kept) / kept);
        diffusers_.clear();
        for (int k = 0; k < d_.diffusers; ++k)
            diffusers_.push_back({std::vector<float>(primeFrom(std::size_t(kDiffuserS[std::size_t(k)] * rate)))});
        pre_.ring.assign(std::size_t(d_.preS * rate) + 1, 0.0f);
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
        }
        low_.reset(), high_.reset();
        for (Line& diffuser : diffusers_) std::ranges::fill(diffuser.ring, 0.0f), diffuser.at = 0;
        std::ranges::fill(pre_.ring, 0.0f), pre_.at = 0;
        for (auto& side : wet_)
            for (Biquad& b : side) b.reset();
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
        for (std::size_t at = 0; at < block.frames; at += chunk_) {
            const std::size_t n = std::min(chunk_, block.frames - at);
            float *const left = block.channel[0] + at, *const right = block.channel[1] + at;
            if (wasMono) std::copy_n(left, n, right);
            run(left, right, n);
        }
    }

private:
    static constexpr std::size_t kLines = 16, kQuads = kLines / 4, kMostChunk = 64;
    static constexpr double kLowHz = 200.0, kHighHz = 5000.0;
    static constexpr float kDiffusion = 0.6f;
    static constexpr std::array<double, 4> kDiffuserS{0.0047, 0.0036, 0.0127, 0.0093};

    typedef double Four __attribute__((vector_size(32)));

    struct Line {
        std::vector<float> ring;
        std::size_t at = 0;
        void step() noexcept
        {
            if (++at == ring.size()) at = 0;
        }
        /// The oldest so many, every kLines places of `to`; then others instead of them.
        void read(float* to, std::size_t count) const noexcept
        {
            const std::size_t whole = std::min(count, ring.size() - at);
            for (std::size_t i = 0; i < whole; ++i) to[i * kLines] = ring[at + i];
            for (std::size_t i = whole; i < count; ++i) to[i * kLines] = ring[i - whole];
        }
        void write(const float* from, std::size_t count) noexcept
        {
            const std::size_t whole = std::min(count, ring.size() - at);
            for (std::size_t i = 0; i < whole; ++i) ring[at + i] = from[i * kLines];
            for (std::size_t i = whole; i < count; ++i) ring[i - whole] = from[i * kLines];
            at = whole == count ? at + count : count - whole;
            if (at == ring.size()) at = 0;
        }
    };
    /// A biquad of each line, four lines at a time.
    class Shelves {
    public:
        void set(std::size_t line, const BiquadCoefficients& c, double gain)
        {
            const std::size_t q = line / 4, k = line % 4;
            b0_[q][k] = gain * c.b0, b1_[q][k] = gain * c.b1, b2_[q][k] = gain * c.b2;
            a1_[q][k] = c.a1, a2_[q][k] = c.a2;
        }
        void reset() noexcept { s1_ = s2_ = {}; }
        [[gnu::always_inline]] void step(std::size_t q, Four& x) noexcept
        {
            const Four y = b0_[q] * x + s1_[q];
            s1_[q] = b1_[q] * x - a1_[q] * y + s2_[q];
            s2_[q] = b2_[q] * x - a2_[q] * y;
            x = y;
        }

    private:
        std::array<Four, kQuads> b0_{}, b1_{}, b2_{}, a1_{}, a2_{}, s1_{}, s2_{};
    };

    void run(float* left, float* right, std::size_t frames) noexcept;
    void spread(float* x, std::size_t frames) noexcept;
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
    /// By sums and differences; orthogonal but for a factor of four.
    [[gnu::always_inline]] static void hadamard(Four* y) noexcept
    {
        for (std::size_t q = 0; q < kQuads; ++q) {
            y[q] = __builtin_shufflevector(y[q], y[q], 1, 0, 3, 2) + y[q] * Four{1.0, -1.0, 1.0, -1.0};
            y[q] = __builtin_shufflevector(y[q], y[q], 2, 3, 0, 1) + y[q] * Four{1.0, 1.0, -1.0, -1.0};
        }
        for (std::size_t step = 1; step < kQuads; step *= 2)
            for (std::size_t q = 0; q < kQuads; q += 2 * step)
                for (std::size_t j = q; j < q + step; ++j) {
                    const Four a = y[j], b = y[j + step];
                    y[j] = a + b, y[j + step] = a - b;
                }
    }

    Dials d_;
    std::array<Line, kLines> lines_;
    Shelves low_, high_;
    std::vector<Line> diffusers_;
    Line pre_;
    std::array<std::array<Biquad, 3>, 2> wet_;
    double out_ = 1.0;
    std::size_t chunk_ = kMostChunk; ///< frames at a time, as many as the shortest line holds at most
};

/// Later, and through the diffusers.
void Reverb::spread(float* x, std::size_t frames) noexcept
{
    for (std::size_t i = 0; i < frames; ++i) {
        pre_.ring[pre_.at] = x[i];
        pre_.step();
        x[i] = pre_.ring[pre_.at]; // the oldest
    }
    for (Line& diffuser : diffusers_)
        for (std::size_t i = 0; i < frames; ++i) {
            float& slot = diffuser.ring[diffuser.at];
            const float v = x[i] - kDiffusion * slot;
            x[i] = kDiffusion * v + slot;
            slot = v;
            diffuser.step();
        }
}

/// What comes out of the lines within a chunk went into them before it.
GRISTLE_VECTORISED
void Reverb::run(float* left, float* right, std::size_t frames) noexcept
{
    std::array<float, kMostChunk> in;
    for (std::size_t i = 0; i < frames; ++i) in[i] = 0.5f * (left[i] + right[i]);
    spread(in.data(), frames);
    typedef float FourFloats __attribute__((vector_size(16)));
    alignas(32) std::array<float, kMostChunk * kLines> lines; // of each frame all lines
    for (std::size_t k = 0; k < kLines; ++k) lines_[k].read(&lines[k], frames);
    std::array<std::array<double, kMostChunk>, 2> wet;
    for (std::size_t i = 0; i < frames; ++i) {
        Four y[kQuads], sides[2]{};
        FourFloats* const at = reinterpret_cast<FourFloats*>(&lines[i * kLines]);
        for (std::size_t q = 0; q < kQuads; ++q) {
            y[q] = __builtin_convertvector(at[q], Four);
            low_.step(q, y[q]);
            high_.step(q, y[q]);
            sides[0] += y[q] * Four{1.0, -1.0, 1.0, -1.0};
            sides[1] += y[q] * Four{1.0, 1.0, -1.0, -1.0};
        }
        hadamard(y);
        for (std::size_t q = 0; q < kQuads; ++q)
            at[q] = __builtin_convertvector(0.25 * (y[q] + (q % 2 == 0 ? double(in[i]) : -double(in[i]))), FourFloats);
        for (std::size_t side = 0; side < 2; ++side)
            wet[side][i] = out_ * ((sides[side][0] + sides[side][1]) + (sides[side][2] + sides[side][3]));
    }
    for (std::size_t k = 0; k < kLines; ++k) lines_[k].write(&lines[k], frames);
    for (std::size_t k = 0; k < wet_[0].size(); ++k) { // both sides at once: neither waits for the other
        Biquad first = wet_[0][k], second = wet_[1][k];
        for (std::size_t i = 0; i < frames; ++i) {
            wet[0][i] = first.step(wet[0][i]);
            wet[1][i] = second.step(wet[1][i]);
        }
        wet_[0][k] = first, wet_[1][k] = second;
    }
    for (std::size_t i = 0; i < frames; ++i) {
        left[i] = float((1.0 - d_.mix) * double(left[i]) + d_.mix * wet[0][i]);
        right[i] = float((1.0 - d_.mix) * double(right[i]) + d_.mix * wet[1][i]);
    }
}

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
