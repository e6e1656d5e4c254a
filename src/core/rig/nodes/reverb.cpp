#include "core/rig/nodes/nodes.h"
#include "core/signal/matched_filters.h"
#include "core/units/decibels.h"
#include "core/units/vectorised.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <numbers>
#include <vector>

namespace gristle::core {

namespace {

/// Sixteen delay lines that feed each other through a Hadamard matrix; each loses just as much as its length asks for,
/// so every frequency decays by 60 dB in the time that is set. Behind the matrix pairs of lines turn slowly into each
/// other: no line keeps its pitch, so that a tail is as even as noise, and loses nothing by it. What goes into the
/// lines is heard itself, for the time until they come back. Both sides have a way in of their own. Its sound is as
/// loud as what comes in, however long it rings. Source: Jot and Chaigne 1991, Digital delay networks for designing
/// artificial reverberators; Schroeder 1962 (allpass diffusion before it); Schlecht and Habets 2015, Time-varying
/// feedback matrices in feedback delay networks.
class Reverb final : public NodeProcessor {
public:
    struct Dials {
        double shortestS, longestS; ///< of the lines
        std::vector<double> diffusersS;
        double decayS, low, high, preS, lowCutHz, highCutHz, bellHz, bellDb, mix;
    };
    explicit Reverb(const Dials& dials) : d_(dials) {}

    void prepare(const PrepareSpec& spec) override
    {
        const double rate = spec.rateHz;
        // Lengths are chosen at one rate, so that a reverb is the same at each.
        const auto framesOf = [&](double at48) { return std::size_t(std::lround(at48 / kChosenHz * rate)); };
        double kept = 0.0, meanS = 0.0; // of the energy, in one passage; of the lines
        std::size_t before = 0;
        for (std::size_t k = 0; k < kLines; ++k) {
            const double wish = d_.shortestS * std::pow(d_.longestS / d_.shortestS, double(k) / (kLines - 1));
            before = primeFrom(std::max(before + 1, std::size_t(wish * kChosenHz)));
            const std::size_t length = framesOf(double(before));
            meanS += double(length) / rate / kLines;
            Line& line = lines_[k];
            line.ring.assign(length, 0.0f);
            if (k == 0) chunk_ = std::min(kMostChunk, length);
            const double mid = -60.0 * double(length) / rate / d_.decayS;
            low_[k / 4].set(k % 4, lowShelf(kLowHz, mid * (1.0 / d_.low - 1.0), rate), dbToAmplitude(mid));
            high_[k / 4].set(k % 4, highShelf(kHighHz, mid * (1.0 / d_.high - 1.0), rate), 1.0);
            kept += dbToPower(mid) / kLines;
        }
        // As much as the decay would have had in the time before the lines come back.
        const double early = 13.8 / d_.decayS * meanS, whole = 1.0 + early;
        early_ = std::sqrt(early / whole);
        // Lines that keep `kept` of the energy hold 1 / (1 - kept) of what comes in, and give `kept` of that.
        out_ = std::sqrt((1.0 - kept) / kept / whole);
        for (std::size_t side = 0; side < 2; ++side) {
            ways_[side].diffusers.clear();
            for (const double s : d_.diffusersS) {
                const double wish = (side == 0 ? s : kOtherSide * s) * kChosenHz;
                ways_[side].diffusers.push_back(
                    {std::vector<float>(std::max<std::size_t>(1, framesOf(double(primeFrom(std::size_t(wish))))))});
            }
            ways_[side].pre.ring.assign(std::size_t(std::lround(d_.preS * rate)) + 1, 0.0f);
        }
        for (std::size_t pair = 0; pair < 2; ++pair)
            for (std::size_t k = 0; k < 4; ++k) {
                const double by = 2.0 * std::numbers::pi * kTurnsHz[4 * pair + k] / rate;
                turnCos_[pair][k] = std::cos(by), turnSin_[pair][k] = std::sin(by);
            }
        const BiquadCoefficients cuts[]{highPass(std::max(5.0, d_.lowCutHz), 0.7071, rate),
                                        matchedLowPass(std::min(d_.highCutHz, 0.45 * rate), 0.7071, rate),
                                        matchedBell(d_.bellHz, d_.bellDb, 1.0, rate)};
        for (std::size_t k = 0; k < wet_.size(); ++k)
            for (std::size_t side = 0; side < 2; ++side) wet_[k].set(side, cuts[k], 1.0);
        reset();
    }
    void reset() noexcept override
    {
        for (Line& line : lines_) {
            std::ranges::fill(line.ring, 0.0f);
            line.at = 0;
        }
        for (std::size_t q = 0; q < kQuads; ++q) low_[q].reset(), high_[q].reset();
        for (Way& way : ways_) {
            for (Line& diffuser : way.diffusers) std::ranges::fill(diffuser.ring, 0.0f), diffuser.at = 0;
            std::ranges::fill(way.pre.ring, 0.0f), way.pre.at = 0;
        }
        for (std::size_t pair = 0; pair < 2; ++pair)
            for (std::size_t k = 0; k < 4; ++k) { // each from another angle
                const double at = 2.0 * std::numbers::pi * double(4 * pair + k) / 8.0;
                cos_[pair][k] = std::cos(at), sin_[pair][k] = std::sin(at);
            }
        for (auto& filter : wet_) filter.reset();
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Reverb&>(other);
        for (std::size_t k = 0; k < kLines; ++k)
            if (lines_[k].ring.size() == before.lines_[k].ring.size()) {
                std::ranges::copy(before.lines_[k].ring, lines_[k].ring.begin());
                lines_[k].at = before.lines_[k].at;
            }
        cos_ = before.cos_, sin_ = before.sin_;
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
    static constexpr float kDiffusion = 0.65f;
    static constexpr double kChosenHz = 48000.0, kOtherSide = 1.13;
    /// How fast pairs of lines turn into each other, this way or that.
    static constexpr std::array<double, 8> kTurnsHz{1.39, -1.97, 2.59, -0.91, -1.63, 2.27, -2.89, 1.15};

    typedef double Two __attribute__((vector_size(16)));
    typedef double Four __attribute__((vector_size(32)));
    typedef float FourFloats __attribute__((vector_size(16)));

    struct Line {
        std::vector<float> ring;
        std::size_t at = 0;
        void step() noexcept
        {
            if (++at == ring.size()) at = 0;
        }
        /// The oldest so many; then others instead of them.
        void read(float* to, std::size_t count) const noexcept
        {
            const std::size_t whole = std::min(count, ring.size() - at);
            std::copy_n(&ring[at], whole, to);
            std::copy_n(ring.data(), count - whole, to + whole);
        }
        void write(const float* from, std::size_t count) noexcept
        {
            const std::size_t whole = std::min(count, ring.size() - at);
            std::copy_n(from, whole, &ring[at]);
            std::copy_n(from + whole, count - whole, ring.data());
            at = whole == count ? at + count : count - whole;
            if (at == ring.size()) at = 0;
        }
    };
    /// A biquad for each number of a vector.
    template<typename V> struct Biquads {
        V b0{}, b1{}, b2{}, a1{}, a2{}, s1{}, s2{};

        void set(std::size_t k, const BiquadCoefficients& c, double gain)
        {
            b0[k] = gain * c.b0, b1[k] = gain * c.b1, b2[k] = gain * c.b2;
            a1[k] = c.a1, a2[k] = c.a2;
        }
        void reset() noexcept { s1 = s2 = V{}; }
        [[gnu::always_inline]] void step(V& x) noexcept
        {
            const V y = b0 * x + s1;
            s1 = (b1 * x + s2) - a1 * y; // what waits for y comes last
            s2 = b2 * x - a2 * y;
            x = y;
        }
    };

    /// Of one side into the lines: later, and through its diffusers.
    struct Way {
        Line pre;
        std::vector<Line> diffusers;
        void spread(float* x, std::size_t frames) noexcept;
    };

    void run(float* left, float* right, std::size_t frames) noexcept;
    static void turn(FourFloats* x) noexcept;
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
    std::array<Biquads<Four>, kQuads> low_, high_; ///< of the lines
    std::array<Way, 2> ways_;
    std::array<Four, 2> cos_{}, sin_{}, turnCos_{}, turnSin_{}; ///< of pairs of lines now, and on to the next frame
    std::array<Biquads<Two>, 3> wet_;                           ///< of both sides
    double out_ = 1.0, early_ = 0.0;
    std::size_t chunk_ = kMostChunk; ///< frames at a time, as many as the shortest line holds at most
};

void Reverb::Way::spread(float* x, std::size_t frames) noexcept
{
    for (std::size_t i = 0; i < frames; ++i) {
        pre.ring[pre.at] = x[i];
        pre.step();
        x[i] = pre.ring[pre.at]; // the oldest
    }
    for (Line& diffuser : diffusers)
        for (std::size_t i = 0; i < frames; ++i) {
            float& slot = diffuser.ring[diffuser.at];
            const float v = x[i] - kDiffusion * slot;
            x[i] = kDiffusion * v + slot;
            slot = v;
            diffuser.step();
        }
}

/// Four lines of one frame after the other, from four frames of one line after the other; and back.
[[gnu::always_inline]] inline void Reverb::turn(FourFloats* x) noexcept
{
    const FourFloats ab = __builtin_shufflevector(x[0], x[1], 0, 4, 1, 5),
                     ba = __builtin_shufflevector(x[0], x[1], 2, 6, 3, 7),
                     cd = __builtin_shufflevector(x[2], x[3], 0, 4, 1, 5),
                     dc = __builtin_shufflevector(x[2], x[3], 2, 6, 3, 7);
    x[0] = __builtin_shufflevector(ab, cd, 0, 1, 4, 5), x[1] = __builtin_shufflevector(ab, cd, 2, 3, 6, 7);
    x[2] = __builtin_shufflevector(ba, dc, 0, 1, 4, 5), x[3] = __builtin_shufflevector(ba, dc, 2, 3, 6, 7);
}

/// What comes out of the lines within a chunk went into them before it. One short loop after the other, so that the
/// processor has room for several frames of each.
GRISTLE_VECTORISED
void Reverb::run(float* left, float* right, std::size_t frames) noexcept
{
    std::array<std::array<float, kMostChunk>, 2> in;
    std::copy_n(left, frames, in[0].data());
    std::copy_n(right, frames, in[1].data());
    for (std::size_t side = 0; side < 2; ++side) ways_[side].spread(in[side].data(), frames);
    alignas(16) std::array<std::array<float, kMostChunk>, kLines> lines;
    for (std::size_t k = 0; k < kLines; ++k) lines_[k].read(lines[k].data(), frames);
    std::array<std::array<Four, kQuads>, kMostChunk> y; // of each frame all lines
    for (std::size_t q = 0; q < kQuads; ++q)
        for (std::size_t i = 0; i < frames; i += 4) {
            FourFloats four[4];
            for (std::size_t k = 0; k < 4; ++k) std::memcpy(&four[k], &lines[4 * q + k][i], sizeof four[k]);
            turn(four);
            for (std::size_t k = 0; k < 4; ++k) y[i + k][q] = __builtin_convertvector(four[k], Four);
        }
    std::array<Two, kMostChunk> wet;
    for (std::size_t i = 0; i < frames; ++i) {
        Four sides[2]{};
        for (std::size_t q = 0; q < kQuads; ++q) {
            low_[q].step(y[i][q]);
            high_[q].step(y[i][q]);
            sides[0] += y[i][q] * Four{1.0, -1.0, 1.0, -1.0};
            sides[1] += y[i][q] * Four{1.0, 1.0, -1.0, -1.0};
        }
        for (std::size_t side = 0; side < 2; ++side)
            wet[i][side] = out_ * ((sides[side][0] + sides[side][1]) + (sides[side][2] + sides[side][3])) +
                           early_ * double(in[side][i]);
    }
    for (std::size_t i = 0; i < frames; ++i) {
        hadamard(y[i].data());
        for (std::size_t pair = 0; pair < 2; ++pair) {
            const Four c = cos_[pair], s = sin_[pair], a = y[i][2 * pair], b = y[i][2 * pair + 1];
            y[i][2 * pair] = c * a - s * b;
            y[i][2 * pair + 1] = s * a + c * b;
            cos_[pair] = c * turnCos_[pair] - s * turnSin_[pair];
            sin_[pair] = s * turnCos_[pair] + c * turnSin_[pair];
        }
        for (std::size_t q = 0; q < kQuads; ++q) y[i][q] += q % 2 == 0 ? double(in[0][i]) : -double(in[1][i]);
    }
    for (std::size_t q = 0; q < kQuads; ++q)
        for (std::size_t i = 0; i < frames; i += 4) {
            FourFloats four[4];
            for (std::size_t k = 0; k < 4; ++k) four[k] = __builtin_convertvector(0.25 * y[i + k][q], FourFloats);
            turn(four);
            for (std::size_t k = 0; k < 4; ++k) std::memcpy(&lines[4 * q + k][i], &four[k], sizeof four[k]);
        }
    for (std::size_t pair = 0; pair < 2; ++pair) { // rounding must not let the turn grow or shrink
        const Four off = 1.5 - 0.5 * (cos_[pair] * cos_[pair] + sin_[pair] * sin_[pair]);
        cos_[pair] *= off, sin_[pair] *= off;
    }
    for (std::size_t k = 0; k < kLines; ++k) lines_[k].write(lines[k].data(), frames);
    const double dry = std::sqrt(1.0 - d_.mix * d_.mix); // as loud together, whatever the mix
    for (std::size_t i = 0; i < frames; ++i) {
        for (auto& filter : wet_) filter.step(wet[i]);
        left[i] = float(dry * double(left[i]) + d_.mix * wet[i][0]);
        right[i] = float(dry * double(right[i]) + d_.mix * wet[i][1]);
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
                if (kind == "room")
                    d.shortestS = 0.009, d.longestS = 0.037, d.diffusersS = {0.0011, 0.0019, 0.0031, 0.0047};
                if (kind == "hall")
                    d.shortestS = 0.029, d.longestS = 0.093, d.diffusersS = {0.0023, 0.0041, 0.0067, 0.0093, 0.0127};
                if (kind == "plate")
                    d.shortestS = 0.013, d.longestS = 0.043,
                    d.diffusersS = {0.00031, 0.00053, 0.00083, 0.00127, 0.00193, 0.0029, 0.0041, 0.0059};
                const auto n = [&](const char* key) { return numberOf(v, key); };
                d.decayS = n("decay"), d.low = n("low"), d.high = n("high"), d.preS = n("pre") * 1e-3;
                d.lowCutHz = n("low_cut"), d.highCutHz = n("high_cut"), d.bellHz = n("bell_hz");
                d.bellDb = n("bell_db"), d.mix = n("mix");
                return madeNode<Reverb>(d);
            }};
}

} // namespace gristle::core
