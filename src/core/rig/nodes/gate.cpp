#include "core/rig/nodes/nodes.h"

#include "core/signal/biquad.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kThereDb = 1e-4; // as good as open or closed
constexpr double kLevelS = 0.005; // of the mean square that is looked at: two periods of the lowest string's octave
constexpr double kLowHz = 15.0;   // below is no string: an input's offset does not hold it open
constexpr double kOpens = 4.0;    // time constants until it is open within a decibel
constexpr double kMostAheadS = 0.05;
constexpr double kAtOnce = 16.0; // a pick's first swing, 12 dB over the threshold, opens it before the mean has risen

/// Turns down what comes in while the DI is soft. The level is that of the DI, as late as what comes in is, so it works
/// the same behind any amount of gain. It looks ahead where nobody waits for it. Opens above the threshold, closes when
/// the level has been under it, less the hysteresis, for the hold time; the gain in dB goes exponentially to its target
/// (attack and release are time constants).
class Gate final : public NodeProcessor {
public:
    struct Dials {
        double thresholdDbfs, hysteresisDb, attackMs, holdMs, releaseMs, depthDb, fullScaleV;
    };
    explicit Gate(const Dials& dials) : dials_(dials) {}

    void prepare(const PrepareSpec& spec) override
    {
        const auto step = [&](double seconds) { return 1.0 - std::exp(-1.0 / (seconds * spec.rateHz)); };
        level_ = step(kLevelS);
        attack_ = step(dials_.attackMs * 1e-3);
        release_ = step(dials_.releaseMs * 1e-3);
        // AES17: a sine that peaks at full scale reads 0 dBFS, and its mean square is half of that of full scale.
        const double reference = 0.5 * dials_.fullScaleV * dials_.fullScaleV;
        open_ = reference * dbToPower(dials_.thresholdDbfs);
        close_ = reference * dbToPower(dials_.thresholdDbfs - dials_.hysteresisDb);
        holdFrames_ = static_cast<std::size_t>(dials_.holdMs * 1e-3 * spec.rateHz);
        strings_ = OnePole::highPass(kLowHz, spec.rateHz);
        // It looks ahead by as much as what comes in is late anyway, and where nobody waits for it, by all that it
        // takes to open.
        const auto wish = std::size_t(std::min(kOpens * dials_.attackMs * 1e-3 + kLevelS, kMostAheadS) * spec.rateHz);
        late_ = spec.live || wish < spec.diLate ? 0 : wish - spec.diLate;
        const std::size_t ahead = std::min(wish, spec.diLate + late_);
        holdFrames_ += ahead; // of what comes in later
        line_.assign(spec.diLate + late_ - ahead + 1, 0.0f);
        sides_.assign(spec.channels, std::vector<float>(late_));
        gain_.assign(spec.maxBlock, 0.0f);
        reset();
    }
    void reset() noexcept override
    {
        std::ranges::fill(line_, 0.0f);
        for (auto& side : sides_) std::ranges::fill(side, 0.0f);
        sideAt_ = 0;
        strings_.reset();
        at_ = below_ = 0;
        power_ = 0.0;
        isOpen_ = false;
        db_ = -dials_.depthDb;
        now_ = static_cast<float>(dbToAmplitude(db_));
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Gate&>(other);
        strings_ = before.strings_, power_ = before.power_, isOpen_ = before.isOpen_, below_ = before.below_;
        db_ = isOpen_ ? before.db_ : std::max(before.db_, -dials_.depthDb);
        now_ = static_cast<float>(dbToAmplitude(db_));
        if (line_.size() == before.line_.size()) std::ranges::copy(before.line_, line_.begin()), at_ = before.at_;
        for (std::size_t c = 0; c < std::min(sides_.size(), before.sides_.size()); ++c)
            if (sides_[c].size() == before.sides_[c].size())
                std::ranges::copy(before.sides_[c], sides_[c].begin()), sideAt_ = before.sideAt_;
    }
    std::size_t latency() const noexcept override { return late_; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t i = 0; i < block.frames; ++i) {
            line_[at_] = block.di ? block.di[i] : block.channel[0][i];
            at_ = at_ + 1 == line_.size() ? 0 : at_ + 1;
            const double x = strings_.step(double(line_[at_])); // the oldest
            power_ += (x * x - power_) * level_;
            if (power_ < 1e-30) power_ = 0.0;
            if (power_ >= open_ || x * x >= kAtOnce * open_) isOpen_ = true;
            below_ = power_ < close_ ? below_ + 1 : 0;
            if (below_ > holdFrames_) isOpen_ = false;
            const double target = isOpen_ ? 0.0 : -dials_.depthDb;
            if (db_ != target) {
                db_ += (target - db_) * (isOpen_ ? attack_ : release_);
                if (std::abs(target - db_) < kThereDb) db_ = target;
                now_ = static_cast<float>(dbToAmplitude(db_));
            }
            gain_[i] = now_;
        }
        for (std::size_t c = 0; c < block.channels; ++c) delay(sides_[c], {block.channel[c], block.frames});
        if (late_ > 0) sideAt_ = (sideAt_ + block.frames) % late_;
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t i = 0; i < block.frames; ++i) block.channel[c][i] *= gain_[i];
    }

private:
    void delay(std::vector<float>& line, std::span<float> x) const noexcept
    {
        std::size_t at = sideAt_;
        if (!line.empty())
            for (float& now : x) {
                std::swap(now, line[at]);
                at = at + 1 == line.size() ? 0 : at + 1;
            }
    }

    Dials dials_;
    double level_ = 0.0, attack_ = 0.0, release_ = 0.0, open_ = 0.0, close_ = 0.0;
    std::size_t holdFrames_ = 0;
    OnePole strings_;
    std::vector<float> line_, gain_;        ///< of the DI, as late as what is turned down
    std::vector<std::vector<float>> sides_; ///< of what is turned down
    std::size_t late_ = 0, at_ = 0, sideAt_ = 0, below_ = 0;
    double power_ = 0.0, db_ = 0.0;
    float now_ = 0.0f; ///< the gain
    bool isOpen_ = false;
};

} // namespace

NodeType gateNode()
{
    return {.type = "gate",
            .title = "Gate",
            .about =
                "Turns down what comes in while nobody plays. It listens to the DI wherever it sits, so it may stand "
                "behind the amplifier and still knows noise from a soft note. Where it renders it looks ahead, so that "
                "it is open when a note begins.",
            .channels = "any",
            .parameters = {{.key = "threshold",
                            .label = "threshold",
                            .unit = "dBFS",
                            .min = -90.0,
                            .max = -10.0,
                            .initial = "-50",
                            .about = "opens when the DI is above that"},
                           {.key = "hysteresis",
                            .label = "hysteresis",
                            .unit = "dB",
                            .min = 0.0,
                            .max = 20.0,
                            .initial = "4",
                            .about = "closes that much below it, so that a fading note does not flutter"},
                           milliseconds("attack", 0.1, 50.0, "0.1", "time constant of opening"),
                           milliseconds("hold", 0.0, 1000.0, "40", "stays open for so long"),
                           milliseconds("release", 5.0, 2000.0, "80", "time constant of closing"),
                           {.key = "depth",
                            .label = "depth",
                            .unit = "dB",
                            .min = 0.0,
                            .max = 100.0,
                            .initial = "60",
                            .about = "how far it turns down"}},
            .make = [](const ParameterValues& v, const NodeContext& context) -> MadeNode {
                return std::unique_ptr<NodeProcessor>(std::make_unique<Gate>(Gate::Dials{
                    numberOf(v, "threshold"), numberOf(v, "hysteresis"), numberOf(v, "attack"), numberOf(v, "hold"),
                    numberOf(v, "release"), numberOf(v, "depth"), context.fullScaleV}));
            }};
}

} // namespace gristle::core
