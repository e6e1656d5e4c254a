#include "core/rig/nodes/nodes.h"
#include "core/signal/true_peak.h"
#include "core/units/calibration.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

namespace gristle::core {

namespace {

/// Never above its ceiling: the gain is the least that any frame of the next milliseconds asks for, and its mean over
/// as long, so that it is there in time; held over half a period of the lowest string, so that it does not follow the
/// wave itself, and let go exponentially. No sample passes above, nor what lies between samples, as each of the gains
/// in its mean has seen it.
class Limiter final : public NodeProcessor {
public:
    Limiter(double ceilingDbu, double releaseMs)
        : ceiling_(float(kDbuVoltsRms * std::numbers::sqrt2 * dbToAmplitude(ceilingDbu))), releaseMs_(releaseMs)
    {}
    void prepare(const PrepareSpec& spec) override
    {
        window_ = std::max<std::size_t>(2, std::size_t((spec.live ? kLiveS : kRenderedS) * spec.rateHz));
        pull_ = 1.0 - std::exp(-1.0 / (releaseMs_ * 1e-3 * spec.rateHz));
        hold_ = std::size_t(kHoldS * spec.rateHz);
        lines_.assign(spec.channels, std::vector<float>(window_ + TruePeak::kLate - 1));
        peaks_.assign(spec.channels, {});
        leasts_.resize(window_);
        asked_.resize(2 * window_);
        when_.resize(2 * window_);
        reset();
    }
    void reset() noexcept override
    {
        for (auto& line : lines_) std::ranges::fill(line, 0.0f);
        for (TruePeak& peak : peaks_) peak.reset();
        oldest_ = 0;
        std::ranges::fill(leasts_, 1.0);
        sum_ = double(window_);
        released_ = 1.0;
        held_ = 0;
        first_ = count_ = 0;
        now_ = 0;
    }
    std::size_t latency() const noexcept override { return window_ + TruePeak::kLate - 1; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t i = 0; i < block.frames; ++i, ++now_) {
            float peak = 0.0f;
            for (std::size_t c = 0; c < block.channels; ++c)
                peak = std::max(peak, peaks_[c].next(block.channel[c][i], ceiling_));
            const double asks = peak > ceiling_ ? double(ceiling_) / double(peak) : 1.0;
            if (asks < 1.0 && asks <= released_ + kAsMuch)
                released_ = std::min(asks, released_), held_ = hold_;
            else if (held_ > 0)
                --held_;
            else
                released_ = std::min(asks, released_ + pull_ * (1.0 - released_));
            const std::size_t at = now_ % window_;
            const double least = leastOf(released_);
            sum_ += least - leasts_[at];
            leasts_[at] = least;
            if (at == 0) { // so that rounding does not pile up
                sum_ = 0.0;
                for (const double g : leasts_) sum_ += g;
            }
            const auto gain = float(std::min(1.0, sum_ / double(window_)));
            for (std::size_t c = 0; c < block.channels; ++c) {
                const float x = std::exchange(lines_[c][oldest_], block.channel[c][i]) * gain;
                block.channel[c][i] = std::clamp(x, -ceiling_, ceiling_); // against the last bit of the mean
            }
            oldest_ = oldest_ + 1 == lines_[0].size() ? 0 : oldest_ + 1;
        }
    }

private:
    static constexpr double kLiveS = 0.0005, kRenderedS = 0.0015, kHoldS = 0.013;
    static constexpr double kAsMuch = 1e-3; // the next crest falls between other samples

    /// The least gain asked for in the window that ends now. A queue of those that may still be it, each above the one
    /// before: every gain enters and leaves once.
    double leastOf(double asked) noexcept
    {
        const std::size_t size = asked_.size();
        while (count_ > 0 && asked_[(first_ + count_ - 1) % size] >= asked) --count_;
        asked_[(first_ + count_) % size] = asked;
        when_[(first_ + count_++) % size] = now_;
        while (when_[first_ % size] + window_ <= now_) ++first_, --count_;
        return asked_[first_ % size];
    }

    float ceiling_;
    double releaseMs_, pull_ = 0.0, released_ = 1.0, sum_ = 0.0;
    std::size_t hold_ = 0, held_ = 0; ///< frames
    std::size_t window_ = 2, first_ = 0, count_ = 0, now_ = 0;
    std::vector<std::vector<float>> lines_;
    std::vector<TruePeak> peaks_;
    std::size_t oldest_ = 0; ///< of the lines
    std::vector<double> leasts_, asked_;
    std::vector<std::size_t> when_;
};

} // namespace

NodeType limiterNode()
{
    return {.type = "limiter",
            .title = "Limiter",
            .about = "Lets no peak above its ceiling, between the samples either; below it nothing is done. Looks "
                     "three quarters of a millisecond ahead while you play, 1.75 ms where it renders.",
            .channels = "any",
            .parameters = {numberSpec("ceiling", "dBu", -40.0, 40.0, "0", "the level of a sine with that peak"),
                           milliseconds("release", 5.0, 1000.0, "60", "time constant of letting go")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return madeNode<Limiter>(numberOf(v, "ceiling"), numberOf(v, "release"));
            }};
}

} // namespace gristle::core
