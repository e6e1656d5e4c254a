#include "core/rig/nodes/nodes.h"
#include "core/signal/matched_filters.h"

#include <Eigen/Dense>
#include <array>
#include <cmath>
#include <complex>
#include <numbers>

namespace gristle::core {

namespace {

constexpr std::array<int, 9> kBands{63, 125, 250, 500, 1000, 2000, 4000, 8000, 16000};
constexpr double kQ = 1.41;      // an octave
constexpr double kPrototype = 6; // dB, at which a band's reach into the others is taken

std::string keyOf(int hz) { return "b" + std::to_string(hz); }

double dbAt(const BiquadCoefficients& c, double hz, double rateHz)
{
    const std::complex<double> z = std::polar(1.0, -2.0 * std::numbers::pi * hz / rateHz);
    return 20.0 * std::log10(std::abs((c.b0 + z * (c.b1 + z * c.b2)) / (1.0 + z * (c.a1 + z * c.a2))));
}

/// Bells an octave apart reach into each other. Their gains are worked out so that the whole passes through every
/// slider: the reach of each band, in decibels, is about proportional to its gain, so that is a linear equation, taken
/// up again with what is missing until nothing is. Source: Oliver and Jot 2015, Efficient multi-band digital audio
/// graphic equalizer with accurate frequency response control.
class Graphic final : public NodeProcessor {
public:
    explicit Graphic(std::array<double, kBands.size()> wanted) : wanted_(wanted) {}

    void prepare(const PrepareSpec& spec) override
    {
        constexpr int kRounds = 12;
        constexpr double kNearEnough = 1e-4; // dB
        using Vector = Eigen::VectorXd;
        std::vector<int> bands; // those that the rate can hold
        for (const int hz : kBands)
            if (hz < 0.45 * spec.rateHz) bands.push_back(hz);
        const auto n = long(bands.size());
        Eigen::MatrixXd reach(n, n);
        Vector wanted(n), gains = Vector::Zero(n);
        for (long k = 0; k < n; ++k) {
            wanted[k] = wanted_[std::size_t(k)];
            const auto c = matchedBell(bands[std::size_t(k)], kPrototype, kQ, spec.rateHz);
            for (long i = 0; i < n; ++i) reach(i, k) = dbAt(c, bands[std::size_t(i)], spec.rateHz) / kPrototype;
        }
        const Eigen::PartialPivLU<Eigen::MatrixXd> solved(reach);
        for (int round = 0; round < kRounds; ++round) {
            Vector now = Vector::Zero(n);
            for (long k = 0; k < n; ++k) {
                const auto c = matchedBell(bands[std::size_t(k)], gains[k], kQ, spec.rateHz);
                for (long i = 0; i < n; ++i) now[i] += dbAt(c, bands[std::size_t(i)], spec.rateHz);
            }
            gains += solved.solve(wanted - now);
            if ((wanted - now).norm() < kNearEnough) break;
        }
        sides_.assign(spec.channels, {});
        for (auto& side : sides_)
            for (long k = 0; k < n; ++k)
                if (std::abs(gains[k]) > 1e-9)
                    side.emplace_back(matchedBell(bands[std::size_t(k)], gains[k], kQ, spec.rateHz));
    }
    void reset() noexcept override
    {
        for (auto& side : sides_)
            for (Biquad& b : side) b.reset();
    }
    double tailSeconds() const noexcept override { return 0.25; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            for (Biquad& b : sides_[c]) b.process({block.channel[c], block.frames});
    }

private:
    std::array<double, kBands.size()> wanted_;
    std::vector<std::vector<Biquad>> sides_;
};

} // namespace

NodeType graphicNode()
{
    std::vector<ParameterSpec> p;
    for (const int hz : kBands) {
        p.push_back(decibels(keyOf(hz), -12.0, 12.0, "0", "what comes out there"));
        p.back().label = hz < 1000 ? std::to_string(hz) + " Hz" : std::to_string(hz / 1000) + " kHz";
    }
    return {.type = "graphic",
            .title = "Graphic equaliser",
            .about = "Nine bands an octave apart. The response passes through the sliders: what neighbours add to each "
                     "other is reckoned in.",
            .channels = "any",
            .parameters = std::move(p),
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                std::array<double, kBands.size()> wanted{};
                for (std::size_t k = 0; k < kBands.size(); ++k) wanted[k] = numberOf(v, keyOf(kBands[k]));
                return madeNode<Graphic>(wanted);
            }};
}

} // namespace gristle::core
