#include "core/rig/nodes/nodes.h"

#include <array>
#include <cmath>
#include <complex>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kPi = std::numbers::pi;
constexpr int kHarmonics = 24;
constexpr double kRestWidthHz = 4.0;    // of the notches while nobody plays: follows what moves
constexpr double kFollowEveryS = 0.1;   // how often the frequency is looked at
constexpr double kFollowPart = 0.25;    // of the error that is made good each time
constexpr double kMostPullHz = 0.8;     // from the frequency that was set
constexpr double kPlaysOverFloor = 2.5; // power over the least of late: above that somebody plays
constexpr double kPowerS = 0.05;
constexpr double kFloorRisesDbPerS = 1.0; // the least of late forgets so fast

/// Sines at the harmonics are fitted to the signal as it runs and subtracted: each is a notch whose width is the speed
/// of the fit. While nobody plays the fit is quicker, and the turning of its amplitudes tells how far off the frequency
/// is. Somebody plays where the power stands over the least of the last while. Source: Widrow et al. 1975, adaptive
/// noise cancelling (the notch of a sine reference); the first second is the running mean, which is least squares from
/// the start.
class Comb {
public:
    void prepare(double rateHz, double mainsHz, double widthHz)
    {
        rate_ = rateHz;
        set_ = mainsHz;
        width_ = widthHz;
        reset();
    }
    void reset() noexcept
    {
        hz_ = set_;
        weights_.fill({});
        before_.fill({});
        phase_ = 1.0;
        time_ = power_ = floor_ = sinceFollow_ = restS_ = 0.0;
        rise_ = std::pow(10.0, kFloorRisesDbPerS / 10.0 / rate_);
        turn_ = std::polar(1.0, 2.0 * kPi * hz_ / rate_);
        used_ = std::min(kHarmonics, int(0.45 * rate_ / hz_));
    }
    /// The hum in this sample.
    float step(float x) noexcept
    {
        std::array<std::complex<double>, kHarmonics> reference;
        std::complex<double> power = phase_;
        double hum = 0.0;
        for (int h = 0; h < used_; ++h) {
            reference[std::size_t(h)] = power;
            hum += weights_[std::size_t(h)].real() * power.real() - weights_[std::size_t(h)].imag() * power.imag();
            power = times(power, phase_);
        }
        const double error = double(x) - hum;
        const double seconds = 1.0 / rate_;
        time_ += seconds;
        power_ += (double(x) * double(x) - power_) * seconds / kPowerS;
        floor_ = time_ < 3.0 * kPowerS ? power_ : std::min(power_, floor_ * rise_);
        const bool rests = power_ < kPlaysOverFloor * floor_;
        restS_ = rests ? restS_ + seconds : 0.0;
        const double width = rests ? std::max(width_, kRestWidthHz) : width_;
        // 2 / t is least squares over all so far; pi times the width is the notch of that width. All sines together may
        // not correct more than the whole error.
        const double pull = std::min(1.0 / used_, 2.0 * seconds * std::max(kPi * width * 0.5, 1.0 / time_));
        for (int h = 0; h < used_; ++h) weights_[std::size_t(h)] += pull * error * std::conj(reference[std::size_t(h)]);
        phase_ = times(phase_, turn_);
        sinceFollow_ += seconds;
        if (sinceFollow_ >= kFollowEveryS) follow();
        return float(hum);
    }

private:
    static std::complex<double> times(std::complex<double> a, std::complex<double> b) noexcept
    {
        return {a.real() * b.real() - a.imag() * b.imag(), a.real() * b.imag() + a.imag() * b.real()};
    }
    /// How far each amplitude has turned since the last look, weighed by what it says of the frequency.
    void follow() noexcept
    {
        double error = 0.0, weight = 0.0;
        for (int h = 0; h < used_; ++h) {
            const auto& now = weights_[std::size_t(h)];
            const double order = h + 1.0;
            error += order * std::arg(now * std::conj(before_[std::size_t(h)])) * std::norm(now);
            weight += order * order * std::norm(now);
            before_[std::size_t(h)] = now;
        }
        if (weight > 0.0 && restS_ > 2.0 * kFollowEveryS && time_ > 0.5) {
            hz_ += kFollowPart * error / weight / (2.0 * kPi * sinceFollow_);
            hz_ = std::clamp(hz_, set_ - kMostPullHz, set_ + kMostPullHz);
            turn_ = std::polar(1.0, 2.0 * kPi * hz_ / rate_);
        }
        phase_ /= std::abs(phase_);
        sinceFollow_ = 0.0;
    }

    double rate_ = 48000.0, set_ = 50.0, width_ = 1.0, hz_ = 50.0;
    int used_ = kHarmonics;
    std::array<std::complex<double>, kHarmonics> weights_{}, before_{};
    std::complex<double> phase_ = 1.0, turn_ = 1.0;
    double time_ = 0.0, power_ = 0.0, floor_ = 0.0, rise_ = 1.0, sinceFollow_ = 0.0, restS_ = 0.0;
};

class HumComb final : public NodeProcessor {
public:
    HumComb(double mainsHz, double widthHz, bool removed) : mains_(mainsHz), width_(widthHz), removed_(removed) {}
    void prepare(const PrepareSpec& spec) override
    {
        sides_.assign(spec.channels, {});
        for (Comb& side : sides_) side.prepare(spec.rateHz, mains_, width_);
    }
    void reset() noexcept override
    {
        for (Comb& side : sides_) side.reset();
    }
    double tailSeconds() const noexcept override { return kTailS; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t i = 0; i < block.frames; ++i) {
                const float hum = sides_[c].step(block.channel[c][i]);
                block.channel[c][i] = removed_ ? hum : block.channel[c][i] - hum;
            }
    }

private:
    static constexpr double kTailS = 2.0; // notches of kRestWidthHz let go of 90 dB in 1.7 s
    double mains_, width_;
    bool removed_;
    std::vector<Comb> sides_;
};

} // namespace

NodeType humCombNode()
{
    return {
        .type = "humcomb",
        .title = "Hum comb",
        .about = "Narrow notches at a mains series that follow its frequency: a last resort, after turning, cables and "
                 "an isolating "
                 "DI. Set it to the frequency that was measured.",
        .channels = "any",
        .parameters = {{.key = "mains",
                        .label = "mains",
                        .unit = "Hz",
                        .min = 45.0,
                        .max = 65.0,
                        .initial = "50",
                        .about = "the measured frequency; it is followed by up to 0.8 Hz"},
                       {.key = "width",
                        .label = "width",
                        .unit = "Hz",
                        .min = 0.02,
                        .max = 5.0,
                        .initial = "0.1",
                        .scale = Scale::Logarithmic,
                        .about =
                            "of each notch while somebody plays; wider follows quicker and takes more of the guitar"},
                       {.key = "hear",
                        .label = "hear",
                        .kind = ParameterKind::Choice,
                        .initial = "cleaned",
                        .choices = {"cleaned", "removed"},
                        .about = "removed: only what is taken away"}},
        .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
            return std::unique_ptr<NodeProcessor>(
                std::make_unique<HumComb>(numberOf(v, "mains"), numberOf(v, "width"), textOf(v, "hear") == "removed"));
        }};
}

} // namespace gristle::core
