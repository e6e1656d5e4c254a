#include "core/rig/compiled_rig.h"
#include "core/rig/nodes/nodes.h"
#include "core/signal/biquad.h"
#include "core/signal/fractional_delay.h"
#include "core/signal/varying_delay.h"
#include "core/units/decibels.h"
#include "core/units/musical_time.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <optional>

namespace gristle::core {

namespace {

enum class Sides { One, Two, PingPong };

/// Echoes. One: each channel has its own line. Two: the left line at the time, the right one at another. Ping-pong:
/// what comes in goes to the left line, that to the right one just as loud, and that back by the feedback, so that both
/// sides hear alike much, the right one a time later. In the loop stand a low and a high cut, so every
/// repeat is thinner than the one before; the time may waver; while somebody plays, the wet sound may step back. With a
/// feedback of 1 and more the echoes grow until the loop holds them, as the end of a supply would.
class Delay final : public NodeProcessor {
public:
    struct Dials {
        double seconds, other, feedback, mix;
        Sides sides;
        double spread, duckDb, lowCutHz, highCutHz, waverS, waverHz;
    };
    explicit Delay(const Dials& dials) : d_(dials) {}

    void prepare(const PrepareSpec& spec) override
    {
        rate_ = spec.rateHz;
        lines_.clear();
        const std::size_t count = d_.sides == Sides::One ? spec.channels : 2;
        for (std::size_t c = 0; c < count; ++c) {
            Line& line = lines_.emplace_back();
            line.samples = (c == 1 && d_.sides == Sides::Two ? d_.other : d_.seconds) * rate_;
            if (d_.waverS > 0.0)
                line.moving.emplace().prepare(line.samples + d_.waverS * rate_ + 1.0);
            else
                line.still.emplace().prepare(line.samples);
            if (d_.lowCutHz > 0.0) line.low = OnePole::highPass(d_.lowCutHz, rate_);
            if (d_.highCutHz > 0.0) line.high = OnePole::lowPass(std::min(d_.highCutHz, 0.45 * rate_), rate_);
        }
        fall_ = std::exp(-1.0 / (kDuckReleaseS * rate_));
        rise_ = 1.0 - std::exp(-1.0 / (kDuckAttackS * rate_));
        reset();
    }
    void reset() noexcept override
    {
        for (Line& line : lines_) {
            if (line.still) line.still->reset();
            if (line.moving) line.moving->reset();
            if (line.low) line.low->reset();
            if (line.high) line.high->reset();
        }
        phase_ = held_ = shown_ = 0.0;
        ranAway_ = false;
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Delay&>(other);
        for (std::size_t c = 0; c < std::min(lines_.size(), before.lines_.size()); ++c) {
            Line& line = lines_[c];
            const Line& was = before.lines_[c];
            if (line.still && was.still) line.still->takeOver(*was.still);
            if (line.moving && was.moving) line.moving->takeOver(*was.moving);
        }
        phase_ = before.phase_, held_ = before.held_, wetHeld_ = before.wetHeld_, shown_ = before.shown_;
    }
    std::size_t outputChannels(std::size_t in) const noexcept override { return d_.sides == Sides::One ? in : 2; }
    double tailSeconds() const noexcept override
    {
        const double round =
            std::max(d_.seconds * (d_.sides == Sides::PingPong ? 2.0 : 1.0), d_.sides == Sides::Two ? d_.other : 0.0) +
            2.0 * d_.waverS;
        if (d_.feedback >= 1.0) return CompiledRig::kLongestTailS;
        if (d_.feedback <= 0.0) return round;
        return round * (1.0 + std::ceil(-90.0 / (20.0 * std::log10(d_.feedback))));
    }
    bool ranAway() const noexcept override { return ranAway_; }
    void process(AudioBlock& block) noexcept override
    {
        if (block.channels < lines_.size()) {
            std::copy_n(block.channel[0], block.frames, block.channel[1]);
            block.channels = lines_.size();
        }
        const std::size_t n = lines_.size();
        for (std::size_t i = 0; i < block.frames; ++i) {
            std::array<double, 2> in{}, wet{}, back{};
            const double turn = d_.waverS > 0.0 ? std::sin(2.0 * std::numbers::pi * phase_) : 0.0;
            phase_ = phase_ >= 1.0 ? phase_ - 1.0 : phase_ + d_.waverHz / rate_;
            for (std::size_t c = 0; c < n; ++c) {
                in[c] = double(block.channel[c][i]);
                Line& line = lines_[c];
                wet[c] = line.moving ? line.moving->read(line.samples + d_.waverS * rate_ * (c == 0 ? turn : -turn))
                                     : line.still->read();
                back[c] = wet[c];
                if (line.low) back[c] = line.low->step(back[c]);
                if (line.high) back[c] = line.high->step(back[c]);
            }
            const double mid = n == 2 ? 0.5 * (in[0] + in[1]) : in[0];
            for (std::size_t c = 0; c < n; ++c) {
                double into = in[c] + d_.feedback * back[c];
                if (d_.sides == Sides::PingPong) into = c == 0 ? mid + d_.feedback * back[1] : back[0];
                if (d_.feedback >= 1.0 && std::abs(into) > kFreeV) {
                    into = std::copysign(
                        kFreeV + (kMostV - kFreeV) * std::tanh((std::abs(into) - kFreeV) / (kMostV - kFreeV)), into);
                    ranAway_ = true;
                }
                lines_[c].still ? lines_[c].still->write(float(into)) : lines_[c].moving->write(float(into));
            }
            const double gain =
                duck(std::max(std::abs(in[0]), std::abs(in[1])), std::max(std::abs(wet[0]), std::abs(wet[1])));
            if (n == 2 && d_.sides != Sides::One) {
                const double same = 0.5 * (1.0 - d_.spread) * (wet[0] + wet[1]);
                wet = {d_.spread * wet[0] + same, d_.spread * wet[1] + same};
            }
            for (std::size_t c = 0; c < n; ++c)
                block.channel[c][i] = float((1.0 - d_.mix) * in[c] + d_.mix * gain * wet[c]);
        }
    }

private:
    static constexpr double kDuckAttackS = 0.01, kDuckReleaseS = 0.25;
    static constexpr double kFreeV = 20.0, kMostV = 30.0; // the loop bends from one to the other

    struct Line {
        double samples = 0.0;
        std::optional<FractionalDelay> still;
        std::optional<VaryingDelay> moving;
        std::optional<OnePole> low, high;
    };

    /// By how much the wet sound steps back: by all of it while what comes in is as loud as its first echo (what
    /// repeats add to that does not count), by nothing where it is 20 dB softer.
    double duck(double dry, double wet) noexcept
    {
        if (d_.duckDb <= 0.0) return 1.0;
        held_ = std::max(dry, held_ * fall_);
        wetHeld_ = std::max({wet * (1.0 - std::min(d_.feedback, 0.9)), wetHeld_ * fall_, 1e-9});
        const double over = std::clamp(1.0 + amplitudeToDb(std::max(held_, 1e-9) / wetHeld_) / 20.0, 0.0, 1.0);
        shown_ += rise_ * (over * d_.duckDb - shown_);
        return dbToAmplitude(-shown_);
    }

    Dials d_;
    double rate_ = 48000.0, fall_ = 0.0, rise_ = 0.0;
    std::vector<Line> lines_;
    double phase_ = 0.0, held_ = 0.0, wetHeld_ = 1e-9, shown_ = 0.0;
    bool ranAway_ = false;
};

Result<double> secondsOf(const ParameterValues& v, const char* key)
{
    const auto time = MusicalTime::parse(textOf(v, key));
    if (!time) return time.error();
    const double seconds = time->seconds(numberOf(v, "tempo"));
    if (seconds < 0.001 || seconds > 20.0)
        return Error{ErrorCode::Usage,
                     std::string("delay ") + key + "=" + time->text() + ": at this tempo it lasts " +
                         std::to_string(seconds) + " s",
                     "take a note value between 1 ms and 20 s"};
    return seconds;
}

ParameterSpec timeSpec(const char* key, const char* initial, const char* about)
{
    return {.key = key,
            .label = key,
            .unit = "ms",
            .kind = ParameterKind::Time,
            .min = 0.001,
            .max = 5.0,
            .initial = initial,
            .scale = Scale::Logarithmic,
            .about = about};
}

} // namespace

NodeType delayNode()
{
    return {
        .type = "delay",
        .title = "Delay",
        .about = "Echoes at a time or a note value, on one line, on two sides, or from side to side.",
        .channels = "any; sides, pingpong: 1 to 2",
        .parameters =
            {timeSpec("time", "1/8d", "433ms, 0.433s, or a note value of the tempo: 1/4, 1/8d, 1/8t"),
             numberSpec("tempo", "BPM", 20.0, 400.0, "120", "quarter notes a minute, for note values"),
             numberSpec("feedback", "", 0.0, 1.1, "0.35",
                        "ratio of one repeat to the one before; from 1 on they grow until they are held"),
             part("mix", "0.2", "(1 - mix) dry + mix wet"),
             choiceSpec(
                 "sides", {"one", "two", "pingpong"}, "one",
                 "two: the right side at its own time; pingpong: from side to side, by the feedback each time round"),
             timeSpec("other", "1/4", "the right side's time, with two sides"),
             part("spread", "1", "1: fully left and right; 0: both in the middle"),
             decibels("duck", 0.0, 24.0, "0", "how far the echoes step back while you play"),
             hertz("low_cut", 0.0, 1000.0, "0", "in the loop, 6 dB an octave; 0: none"),
             hertz("high_cut", 0.0, 18000.0, "0", "in the loop, 6 dB an octave; 0: none"),
             numberSpec("waver", "ms", 0.0, 4.0, "0", "how far the time moves; 0: not at all"),
             hertz("waver_hz", 0.05, 8.0, "0.7", "how fast")},
        .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
            const auto seconds = secondsOf(v, "time"), other = secondsOf(v, "other");
            if (!seconds) return seconds.error();
            if (!other) return other.error();
            const auto n = [&](const char* key) { return numberOf(v, key); };
            const std::string& sides = textOf(v, "sides");
            return madeNode<Delay>(Delay::Dials{*seconds, *other, n("feedback"), n("mix"),
                                                sides == "one"   ? Sides::One
                                                : sides == "two" ? Sides::Two
                                                                 : Sides::PingPong,
                                                n("spread"), n("duck"), n("low_cut"), n("high_cut"),
                                                std::min(n("waver") * 1e-3, *seconds * 0.5), n("waver_hz")});
        }};
}

} // namespace gristle::core
