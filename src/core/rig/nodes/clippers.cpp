// What clips before the amplifier: boost, soft and hard clipper, fuzz. Each is a chain of textbook stages with values
// of our own, at a raised rate.

#include "core/rig/nodes/nodes.h"
#include "core/rig/nodes/raised.h"
#include "core/signal/biquad.h"
#include "core/signal/diode_pair.h"
#include "core/signal/saturator.h"
#include "core/units/decibels.h"

#include <array>
#include <cmath>

namespace gristle::core {

namespace {

template<typename Work> std::unique_ptr<NodeProcessor> raised(Work work, double tailS, std::size_t times = Work::kTimes)
{
    return std::make_unique<Raised<Work>>(std::move(work), tailS, times);
}

/// One transistor between its rails: gain, and a soft curve where the supply ends.
class Boost {
public:
    static constexpr std::size_t kTimes = 4;
    static constexpr double kDelay = Saturator::kStrongDelay;
    Boost(double gainDb, double tightHz, double supplyV)
        : gain_(float(dbToAmplitude(gainDb))), tightHz_(tightHz), rails_(0.0, kSwing * supplyV, Antialiasing::Strong)
    {}
    void prepare(double rateHz, std::size_t frames)
    {
        tight_ = OnePole::highPass(tightHz_, rateHz);
        rails_.prepare(frames);
    }
    void reset() noexcept { tight_.reset(), rails_.reset(); }
    void process(std::span<float> x) noexcept
    {
        tight_.process(x);
        rails_.process(x, gain_);
    }

private:
    static constexpr double kSwing = 0.45; // of the supply, to each side
    float gain_;
    double tightHz_;
    OnePole tight_;
    Saturator rails_;
};

/// A non-inverting amplifier with a diode pair across its feedback resistor. The leg to ground has a capacitor, so the
/// low end is let by and the middle stands out: out = in + v, v the pair's voltage at the current of the leg, in / (R +
/// 1 / sC). The feedback capacitor takes the top out of what is driven. Source: Yeh, Abel and Smith 2007, Simplified,
/// physically-informed models of distortion and overdrive guitar effects pedals. Values of our own.
class SoftClip {
public:
    static constexpr std::size_t kTimes = 4;
    static constexpr double kDelay = DiodePair::kDelay;
    SoftClip(double drive, double humpHz, double toneHz, double levelDb)
        : feedbackOhm_(kLeastOhm + kPotOhm * (std::pow(kTaper, drive / 10.0) - 1.0) / (kTaper - 1.0)), humpHz_(humpHz),
          toneHz_(toneHz), level_(dbToAmplitude(levelDb)), pair_({.ohm = feedbackOhm_})
    {}
    void prepare(double rateHz, std::size_t frames)
    {
        hump_ = OnePole::highPass(humpHz_, rateHz);
        top_ = OnePole::lowPass(1.0 / (2.0 * 3.14159265358979 * feedbackOhm_ * kFeedbackF), rateHz);
        tone_ = OnePole::lowPass(toneHz_, rateHz);
        driven_.resize(frames);
        reset();
    }
    void reset() noexcept
    {
        for (OnePole* p : {&hump_, &top_, &tone_}) p->reset();
        pair_.reset();
        before_ = {};
    }
    void process(std::span<float> x) noexcept
    {
        // In registers while the loops run.
        OnePole hump = hump_, top = top_, tone = tone_;
        const std::span<double> v(driven_.data(), x.size());
        for (std::size_t i = 0; i < x.size(); ++i) v[i] = top.step(hump.step(double(x[i]))) / kLegOhm;
        pair_.process(v);
        auto [last, third, second, first] = before_;
        for (std::size_t i = 0; i < x.size(); ++i) { // what goes straight through is as late as the pair
            const double straight = second + (kDelay - 3.0) * (first - second);
            first = second, second = third, third = last, last = double(x[i]);
            x[i] = float(level_ * tone.step(straight + v[i]));
        }
        before_ = {last, third, second, first};
        hump_ = hump, top_ = top, tone_ = tone;
    }

private:
    static constexpr double kLegOhm = 3900.0, kLeastOhm = 39e3, kPotOhm = 470e3, kTaper = 30.0, kFeedbackF = 47e-12;
    double feedbackOhm_, humpHz_, toneHz_, level_;
    OnePole hump_, top_, tone_;
    DiodePair pair_;
    std::vector<double> driven_;
    std::array<double, 4> before_{}; ///< the last samples, the latest first
};

/// An amplifier into a resistor and a diode pair to ground: all of the sound is held at some 0.6 V. A capacitor across
/// the pair rounds the top. Source: as SoftClip; Shockley's law. Values of our own.
class HardClip {
public:
    static constexpr std::size_t kTimes = 4;
    static constexpr double kDelay = DiodePair::kDelay;
    HardClip(double drive, double toneHz, double levelDb)
        : gain_(dbToAmplitude(6.0 + 4.4 * drive)), toneHz_(toneHz), level_(dbToAmplitude(levelDb)),
          pair_({.ohm = kSeriesOhm})
    {}
    void prepare(double rateHz, std::size_t frames)
    {
        low_ = OnePole::highPass(kLowHz, rateHz);
        top_ = OnePole::lowPass(kTopHz, rateHz);
        tone_ = OnePole::lowPass(toneHz_, rateHz);
        work_.resize(frames);
        reset();
    }
    void reset() noexcept
    {
        for (OnePole* p : {&low_, &top_, &tone_}) p->reset();
        pair_.reset();
    }
    void process(std::span<float> x) noexcept
    {
        const std::span<double> v(work_.data(), x.size());
        for (std::size_t i = 0; i < x.size(); ++i) v[i] = gain_ * low_.step(double(x[i])) / kSeriesOhm;
        pair_.process(v);
        for (std::size_t i = 0; i < x.size(); ++i) x[i] = float(level_ * tone_.step(top_.step(v[i])));
    }

private:
    static constexpr double kSeriesOhm = 2700.0, kLowHz = 80.0, kTopHz = 7000.0;
    double gain_, toneHz_, level_;
    OnePole low_, top_, tone_;
    DiodePair pair_;
    std::vector<double> work_;
};

/// Three or four transistor stages: one that lifts, one or two with a diode pair from output to input (an inverting
/// amplifier, so all of its output is the pair's), one that makes up. Between them coupling capacitors; before the last
/// a control that fades from a low pass to a high pass, with a hollow where both are down.
class Fuzz {
public:
    static constexpr std::size_t kTimes = 8;
    static constexpr double kDelay = 2.0 * (DiodePair::kDelay + Saturator::kStrongDelay);
    Fuzz(double sustain, bool clipsTwice, double tone, double levelDb)
        : clipsTwice_(clipsTwice), sustain_(dbToAmplitude(-34.0 + 3.4 * sustain)), tone_(tone / 10.0),
          level_(dbToAmplitude(levelDb)), first_(0.0, 3.5, Antialiasing::Strong), second_({.ohm = kFeedbackOhm}),
          third_({.ohm = kFeedbackOhm}), last_(-0.05, 3.5, Antialiasing::Strong)
    {}
    void prepare(double rateHz, std::size_t frames)
    {
        for (OnePole& p : coupling_) p = OnePole::highPass(kCouplingHz, rateHz);
        for (OnePole& p : miller_) p = OnePole::lowPass(kMillerHz, rateHz);
        low_ = OnePole::lowPass(kToneLowHz, rateHz);
        high_ = OnePole::highPass(kToneHighHz, rateHz);
        first_.prepare(frames);
        last_.prepare(frames);
        work_.resize(frames);
        reset();
    }
    void reset() noexcept
    {
        for (OnePole& p : coupling_) p.reset();
        for (OnePole& p : miller_) p.reset();
        for (OnePole* p : {&low_, &high_}) p->reset();
        first_.reset(), second_.reset(), third_.reset(), last_.reset();
        instead_.fill(0.0);
        insteadAt_ = 0;
    }
    void process(std::span<float> x) noexcept
    {
        coupling_[0].process(x);
        first_.process(x, kFirstGain);
        const std::span<double> v(work_.data(), x.size());
        for (std::size_t i = 0; i < x.size(); ++i)
            v[i] = -miller_[0].step(coupling_[1].step(sustain_ * double(x[i]))) / kInputOhm;
        second_.process(v);
        if (clipsTwice_) {
            for (double& y : v) y = -miller_[1].step(coupling_[2].step(y)) / kInputOhm;
            third_.process(v);
        } else { // as late as with it
            for (double& y : v) {
                std::swap(y, instead_[insteadAt_]);
                insteadAt_ = (insteadAt_ + 1) % instead_.size();
            }
        }
        for (std::size_t i = 0; i < x.size(); ++i)
            x[i] = float((1.0 - tone_) * low_.step(v[i]) + tone_ * high_.step(v[i]));
        last_.process(x, kLastGain);
        for (float& y : x) y = float(level_ * coupling_[3].step(double(y)));
    }

private:
    static constexpr double kFeedbackOhm = 390e3, kInputOhm = 9100.0, kCouplingHz = 45.0, kMillerHz = 4200.0,
                            kToneLowHz = 450.0, kToneHighHz = 1300.0;
    static constexpr float kFirstGain = 10.0f, kLastGain = 4.0f;
    bool clipsTwice_;
    double sustain_, tone_, level_;
    std::array<OnePole, 4> coupling_;
    std::array<OnePole, 2> miller_;
    OnePole low_, high_;
    Saturator first_;
    DiodePair second_, third_;
    std::array<double, std::size_t(DiodePair::kDelay)> instead_{};
    std::size_t insteadAt_ = 0;
    Saturator last_;
    std::vector<double> work_;
};

} // namespace

NodeType boostNode()
{
    return {.type = "boost",
            .title = "Boost",
            .about = "Pushes the front of the amplifier with level. Clean until its own supply ends.",
            .channels = "any",
            .parameters = {decibels("gain", 0.0, 35.0, "12", "what it adds"),
                           hertz("tight", 20.0, 700.0, "30", "low cut before it, 6 dB an octave"),
                           choiceSpec("supply", {"9", "18"}, "18", "volts that it runs on: where it ends")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return raised(Boost(numberOf(v, "gain"), numberOf(v, "tight"), std::stod(textOf(v, "supply"))), 0.1);
            }};
}

NodeType softClipNode()
{
    return {
        .type = "softclip",
        .title = "Soft clipper",
        .about = "A diode pair across the feedback of an amplifier whose gain begins at the hump: the middle stands "
                 "out, the low end passes by, what was played stays under it.",
        .channels = "any",
        .parameters = {dial("drive", "4", "the feedback resistor"),
                       hertz("hump", 200.0, 1500.0, "620", "where the driven part begins"),
                       hertz("tone", 500.0, 12000.0, "3500", "top cut behind it, 6 dB an octave"),
                       decibels("level", -30.0, 20.0, "0", "behind it")},
        .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
            return raised(
                SoftClip(numberOf(v, "drive"), numberOf(v, "hump"), numberOf(v, "tone"), numberOf(v, "level")), 0.05);
        }};
}

NodeType hardClipNode()
{
    return {.type = "hardclip",
            .title = "Hard clipper",
            .about = "Gain into a diode pair to ground, which holds all of the sound.",
            .channels = "any",
            .parameters = {dial("drive", "5", "gain before the pair, 6 to 50 dB"),
                           hertz("tone", 500.0, 12000.0, "3500", "top cut behind it, 6 dB an octave"),
                           decibels("level", -30.0, 20.0, "0", "behind it")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                return raised(HardClip(numberOf(v, "drive"), numberOf(v, "tone"), numberOf(v, "level")), 0.1);
            }};
}

NodeType fuzzNode()
{
    return {.type = "fuzz",
            .title = "Fuzz",
            .about = "One or two stages that clip, between two that lift: long sustain, a hollow middle.",
            .channels = "any",
            .parameters = {dial("sustain", "6", "what the first clipping stage gets"),
                           choiceSpec("stages", {"one", "two"}, "two",
                                      "that clip: one cleans up when the guitar's volume goes back, two hold a note"),
                           dial("tone", "5", "from the low end to the top, with a hollow between"),
                           decibels("level", -40.0, 10.0, "-6", "behind it")},
            .make = [](const ParameterValues& v, const NodeContext&) -> MadeNode {
                const bool clipsTwice = textOf(v, "stages") == "two";
                const double tone = numberOf(v, "tone");
                // Its top is edges alone: they ask for a higher rate, the most where no second stage rounds them.
                const std::size_t finer = tone > 7.0 && !clipsTwice ? 4 : tone > 4.0 ? 2 : 1;
                return raised(Fuzz(numberOf(v, "sustain"), clipsTwice, tone, numberOf(v, "level")), 0.2,
                              finer * Fuzz::kTimes);
            }};
}

} // namespace gristle::core
