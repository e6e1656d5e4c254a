#include "core/rig/nodes/nodes.h"

#include "core/signal/biquad.h"
#include "core/signal/matched_filters.h"

#include <cmath>
#include <numbers>
#include <optional>

namespace gristle::core {

namespace {

/// Butterworth sections of an order from 1 to 4.
struct Cut {
    std::optional<OnePole> one;
    std::vector<Biquad> sections;

    /// @param hz  0: none. @param slopeDb  an octave: 6, 12, 18 or 24
    Cut(double hz, int slopeDb, bool low, double rateHz)
    {
        if (hz <= 0.0) return;
        const int order = slopeDb / 6;
        const bool isOdd = order % 2 == 1;
        if (isOdd && low) one = OnePole::highPass(hz, rateHz);
        if (isOdd && !low) sections.emplace_back(matchedLowPass(hz, rateHz));
        for (int k = 0; k < order / 2; ++k) { // pole pairs of Butterworth: Q = 1 / (2 cos of their angle)
            const double angle = std::numbers::pi * (k + (isOdd ? 1.0 : 0.5)) / order;
            const double q = 0.5 / std::cos(angle);
            sections.emplace_back(low ? highPass(hz, q, rateHz) : matchedLowPass(hz, q, rateHz));
        }
    }
    void process(std::span<float> x) noexcept
    {
        if (one) one->process(x);
        for (Biquad& b : sections) b.process(x);
    }
    void reset() noexcept
    {
        if (one) one->reset();
        for (Biquad& b : sections) b.reset();
    }
};

class Equaliser final : public NodeProcessor {
public:
    explicit Equaliser(ParameterValues values) : values_(std::move(values)) {}

    void prepare(const PrepareSpec& spec) override
    {
        const auto n = [&](const char* key) { return numberOf(values_, key); };
        const auto slope = [&](const char* key) { return std::stoi(textOf(values_, key)); };
        Side side{{n("low_cut"), slope("low_slope"), true, spec.rateHz},
                  {n("high_cut"), slope("high_slope"), false, spec.rateHz},
                  {}};
        if (const double db = n("low_db"); db != 0.0) side.bands.emplace_back(lowShelf(n("low_hz"), db, spec.rateHz));
        for (const std::string i : {"1", "2", "3"})
            if (const double db = numberOf(values_, "db" + i); db != 0.0)
                side.bands.emplace_back(
                    matchedBell(numberOf(values_, "hz" + i), db, numberOf(values_, "q" + i), spec.rateHz));
        if (const double db = n("high_db"); db != 0.0)
            side.bands.emplace_back(matchedHighShelf(n("high_hz"), db, spec.rateHz));
        sides_.assign(spec.channels, side);
        // A section of Q 20 at 20 Hz rings for 3.3 s to -90 dB; the usual ones are far shorter.
        tail_ = 0.05;
        if (n("low_cut") > 0.0) tail_ = std::max(tail_, 4.0 / n("low_cut") * slope("low_slope") / 6.0);
        for (const std::string i : {"1", "2", "3"})
            if (numberOf(values_, "db" + i) != 0.0)
                tail_ += 3.4 * numberOf(values_, "q" + i) *
                         std::pow(10.0, std::abs(numberOf(values_, "db" + i)) / 40.0) / numberOf(values_, "hz" + i);
        if (n("low_db") != 0.0) tail_ += 8.0 / n("low_hz");
    }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c) {
            const std::span<float> x(block.channel[c], block.frames);
            Side& side = sides_[c];
            side.low.process(x);
            for (Biquad& b : side.bands) b.process(x);
            side.high.process(x);
        }
    }
    void reset() noexcept override
    {
        for (Side& side : sides_) {
            side.low.reset();
            side.high.reset();
            for (Biquad& b : side.bands) b.reset();
        }
    }
    double tailSeconds() const noexcept override { return tail_; }

private:
    struct Side {
        Cut low, high;
        std::vector<Biquad> bands;
    };
    ParameterValues values_;
    std::vector<Side> sides_;
    double tail_ = 0.05;
};

ParameterSpec frequency(std::string key, std::string label, double min, double max, std::string initial,
                        std::string about)
{
    return {.key = std::move(key),
            .label = std::move(label),
            .unit = "Hz",
            .min = min,
            .max = max,
            .initial = std::move(initial),
            .scale = min > 0.0 ? Scale::Logarithmic : Scale::Linear,
            .about = std::move(about)};
}

ParameterSpec gain(std::string key, std::string label)
{
    return {.key = std::move(key),
            .label = std::move(label),
            .unit = "dB",
            .min = -18.0,
            .max = 18.0,
            .initial = "0",
            .about = "0: nothing is done there"};
}

ParameterSpec slopeOf(std::string key, std::string label)
{
    return {.key = std::move(key),
            .label = std::move(label),
            .unit = "dB",
            .kind = ParameterKind::Choice,
            .initial = "12",
            .choices = {"6", "12", "18", "24"},
            .about = "dB an octave"};
}

} // namespace

NodeType equaliserNode()
{
    std::vector<ParameterSpec> p = {
        frequency("low_cut", "low cut", 0.0, 1000.0, "0", "-3 dB there; 0: none"), slopeOf("low_slope", "its slope"),
        frequency("low_hz", "low shelf", 30.0, 800.0, "120", "half of its gain there"), gain("low_db", "low shelf")};
    const char* const middles[] = {"300", "1000", "3500"};
    for (int i = 1; i <= 3; ++i) {
        const std::string n = std::to_string(i);
        p.push_back(frequency("hz" + n, "bell " + n, 20.0, 20000.0, middles[i - 1], "its middle"));
        p.push_back(gain("db" + n, "bell " + n));
        p.push_back({.key = "q" + n,
                     .label = "bell " + n + " Q",
                     .min = 0.2,
                     .max = 20.0,
                     .initial = "1",
                     .scale = Scale::Logarithmic,
                     .about = "higher is narrower"});
    }
    p.push_back(frequency("high_hz", "high shelf", 800.0, 16000.0, "5000", "half of its gain there"));
    p.push_back(gain("high_db", "high shelf"));
    p.push_back(frequency("high_cut", "high cut", 0.0, 20000.0, "0", "-3 dB there; 0: none"));
    p.push_back(slopeOf("high_slope", "its slope"));
    return {.type = "eq",
            .title = "Equaliser",
            .about =
                "Low and high cut by Butterworth filters, two shelves and three bells. What stands at 0 does nothing.",
            .channels = "any",
            .parameters = std::move(p),
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return std::unique_ptr<NodeProcessor>(std::make_unique<Equaliser>(v));
            }};
}

} // namespace gristle::core
