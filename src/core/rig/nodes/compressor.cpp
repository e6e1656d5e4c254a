#include "core/rig/nodes/nodes.h"

#include "core/units/calibration.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kDbAnOctave = 6.0205999132796239;                 // a factor of two
constexpr double kPeakAtNone = kDbuVoltsRms * std::numbers::sqrt2; // volts of a sine of 0 dBu

/// Feed-forward, in decibels: level, static curve with a soft knee, then attack and release on the gain. Source:
/// Giannoulis, Massberg and Reiss 2012, Digital dynamic range compressor design, eq. 4 (knee) and the smooth decoupled
/// peak detector behind it. Both channels get the louder one's gain.
class Compressor final : public NodeProcessor {
public:
    struct Dials {
        double thresholdDbu, ratio, kneeDb, attackMs, releaseMs, gainDb, blend;
    };
    explicit Compressor(const Dials& dials) : dials_(dials) {}

    void prepare(const PrepareSpec& spec) override
    {
        attack_ = std::exp(-1.0 / (dials_.attackMs * 1e-3 * spec.rateHz));
        release_ = std::exp(-1.0 / (dials_.releaseMs * 1e-3 * spec.rateHz));
        untouchedV_ = dbToAmplitude(dials_.thresholdDbu - dials_.kneeDb / 2.0) * kPeakAtNone;
        gain_.assign(spec.maxBlock, 1.0f);
        reset();
    }
    void reset() noexcept override { held_ = shown_ = 0.0; }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Compressor&>(other);
        held_ = before.held_, shown_ = before.shown_;
    }
    void process(AudioBlock& block) noexcept override
    {
        const double make = dbToAmplitude(dials_.gainDb);
        for (std::size_t i = 0; i < block.frames; ++i) {
            float size = 0.0f;
            for (std::size_t c = 0; c < block.channels; ++c) size = std::max(size, std::abs(block.channel[c][i]));
            const double over =
                double(size) <= untouchedV_ ? 0.0 : overDb(kDbAnOctave * double(std::log2(size / float(kPeakAtNone))));
            held_ = std::max(over, release_ * held_); // the peak, let go exponentially
            shown_ = attack_ * shown_ + (1.0 - attack_) * held_;
            if (shown_ < 1e-12) shown_ = 0.0;
            const double down = double(std::exp2(float(-shown_ / kDbAnOctave)));
            gain_[i] = static_cast<float>(down * make * dials_.blend + (1.0 - dials_.blend));
        }
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t i = 0; i < block.frames; ++i) block.channel[c][i] *= gain_[i];
    }

private:
    /// By how much a level is to be turned down.
    double overDb(double level) const noexcept
    {
        const double x = level - dials_.thresholdDbu, w = dials_.kneeDb, slope = 1.0 - 1.0 / dials_.ratio;
        if (2.0 * x <= -w) return 0.0;
        if (2.0 * x >= w) return slope * x;
        return slope * (x + w / 2.0) * (x + w / 2.0) / (2.0 * w);
    }

    Dials dials_;
    double attack_ = 0.0, release_ = 0.0, held_ = 0.0, shown_ = 0.0;
    double untouchedV_ = 0.0; ///< peaks up to there are not turned down
    std::vector<float> gain_;
};

} // namespace

NodeType compressorNode()
{
    return {
        .type = "compressor",
        .title = "Compressor",
        .about =
            "Turns down what is louder than its threshold. Before the amplifier with gain behind it, it pushes every "
            "note alike; after it, it levels. Blend keeps some of what came in beside it.",
        .channels = "any",
        .parameters = {{.key = "threshold",
                        .label = "threshold",
                        .unit = "dBu",
                        .min = -60.0,
                        .max = 20.0,
                        .initial = "-20",
                        .about = "in volts like all of the chain: 0 dBu is 0.775 V RMS"},
                       {.key = "ratio",
                        .label = "ratio",
                        .min = 1.0,
                        .max = 20.0,
                        .initial = "4",
                        .scale = Scale::Logarithmic,
                        .about = "dB in for one dB out, above the threshold"},
                       {.key = "knee",
                        .label = "knee",
                        .unit = "dB",
                        .min = 0.0,
                        .max = 24.0,
                        .initial = "6",
                        .about = "how gently it begins"},
                       {.key = "attack",
                        .label = "attack",
                        .unit = "ms",
                        .min = 0.1,
                        .max = 200.0,
                        .initial = "10",
                        .scale = Scale::Logarithmic,
                        .about = "time constant: how much of a pluck gets by"},
                       {.key = "release",
                        .label = "release",
                        .unit = "ms",
                        .min = 10.0,
                        .max = 3000.0,
                        .initial = "150",
                        .scale = Scale::Logarithmic,
                        .about = "time constant of letting go"},
                       {.key = "gain",
                        .label = "gain",
                        .unit = "dB",
                        .min = 0.0,
                        .max = 40.0,
                        .initial = "6",
                        .about = "behind it"},
                       {.key = "blend",
                        .label = "blend",
                        .min = 0.0,
                        .max = 1.0,
                        .initial = "1",
                        .about = "1: only the compressed sound"}},
        .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
            return std::unique_ptr<NodeProcessor>(std::make_unique<Compressor>(Compressor::Dials{
                numberOf(v, "threshold"), numberOf(v, "ratio"), numberOf(v, "knee"), numberOf(v, "attack"),
                numberOf(v, "release"), numberOf(v, "gain"), numberOf(v, "blend")}));
        }};
}

} // namespace gristle::core
