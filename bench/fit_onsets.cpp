// Fits what each clue of an onset is worth: `bench/fit-onsets > src/core/timing/onset_weights.h`. Odd seeds of the
// guitars of bench/natural-sound, simulated ones, and sounds in which no note begins: noise, hum, vibrato, bends,
// beating strings, tremolo, swells. Each clean, through 20 times tanh, and so with the noise of an input before it. A
// logistic regression on curves through six points; ten minutes.

#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "core/timing/onset_clues.h"
#include "logistic_fit.h"
#include "support/natural_guitar.h"

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <fmt/format.h>
#include <functional>
#include <numbers>
#include <random>

using namespace gristle;
using core::OnsetClues;

namespace {

constexpr int kRate = 48000;
constexpr double kDrive = 20.0, kNear = 0.025, kStrumFrom = -0.030, kStrumTo = 0.045;
constexpr double kRidge = 1.0;
constexpr double kNoNoteCounts = 4.0; // they are few beside the sampled ones
constexpr std::size_t kClues = std::tuple_size_v<OnsetClues>;

struct Example {
    OnsetClues clues;
    bool isNote;
    double counts;
};

/// Each stroke is told by the nearest place; what else lies within its strum is neither a note nor none.
void learn(std::vector<Example>& out, const std::vector<float>& x, const std::vector<double>& strokesS, double counts)
{
    const auto places = core::onsetCandidates(x, kRate);
    std::vector<int> kind(places.size(), 0); // 1 a note, 2 neither
    for (const double t : strokesS) {
        std::size_t best = places.size();
        for (std::size_t i = 0; i < places.size(); ++i) {
            const double off = places[i].place.timeS - t;
            if (kind[i] == 0 && off > kStrumFrom && off < kStrumTo) kind[i] = 2;
            if (kind[i] != 1 && std::abs(off) < kNear &&
                (best == places.size() || std::abs(off) < std::abs(places[best].place.timeS - t)))
                best = i;
        }
        if (best < places.size()) kind[best] = 1;
    }
    for (std::size_t i = 0; i < places.size(); ++i)
        if (kind[i] != 2) out.push_back({places[i].clues, kind[i] == 1, counts});
}

void learnAll(std::vector<Example>& out, const std::vector<float>& x, const std::vector<double>& strokesS,
              double counts = 1.0)
{
    learn(out, x, strokesS, counts);
    learn(out, test::driven(x, kDrive, kRate), strokesS, counts);
    auto noisy = x;
    std::mt19937 random(11);
    std::normal_distribution<float> noise(0.0f, 5e-5f);
    for (float& v : noisy) v += noise(random);
    learn(out, test::driven(std::move(noisy), kDrive, kRate), strokesS, counts);
}

void simulated(std::vector<Example>& out, unsigned seed)
{
    core::PlayingStyle style;
    style.seed = seed;
    if (seed % 4 == 3) style.pickupHz = 2400.0, style.pickupQ = 1.2, style.pickupAt = 0.2;
    std::vector<core::WrittenNote> singles;
    constexpr int kFrets[8] = {0, 3, 5, 5, 7, 5, 3, 0};
    for (int i = 0; i < 96; ++i)
        singles.push_back({i * 0.5, 0.48, {{1 + i / 4 % 4, kFrets[i % 8]}}, i % 2 == 0 ? 0.85 : 0.65, false});
    for (const auto& notes : {singles, core::mutedSixteenths(6), core::strummedChords(10), core::brokenChords(10, 4.0),
                              core::rhythmRiff(10), core::leadLine(16)}) {
        auto p = core::perform(notes, 118.0, core::standardTuning(), style, kRate);
        float most = 0.0f;
        for (const float v : p.volts) most = std::max(most, std::abs(v));
        for (float& v : p.volts) v *= 0.3f / most;
        learnAll(out, p.volts, p.onsetS);
    }
}

enum class Moves { Vibrato, Bend, Beats, Tremolo, Swell };

/// Three long notes in 12 s that move while they sound; a swell has no onset.
void moving(std::vector<Example>& out, Moves how, std::mt19937& random)
{
    constexpr double kPi = std::numbers::pi, kLasts = 3.6;
    const auto between = [&](double a, double b) { return std::uniform_real_distribution(a, b)(random); };
    std::vector<float> x(12 * kRate);
    std::vector<double> strokes;
    for (const double start : {0.8, 4.6, 8.4}) {
        const double hz = 110.0 * std::exp2(double(random() % 24) / 12.0), tilt = between(0.7, 1.5),
                     dies = between(0.8, 3.0);
        const double deep = between(0.3, 0.6), quick = between(4.0, 7.0), bendS = between(0.8, 1.6),
                     bendOver = between(0.06, 0.5);
        const double steps = 1.0 + double(random() % 3), second = between(0.5, 1.0), cents = between(3.0, 12.0);
        const double shallow = between(0.2, 0.6), turns = between(2.5, 6.0), swellS = between(0.8, 1.5),
                     loud = std::pow(10.0, between(-0.6, 0.0));
        double phase = 0.0;
        for (std::size_t i = 0; i < std::size_t(kLasts * kRate); ++i) {
            const double t = double(i) / kRate;
            double semitones = 0.0, level = std::exp(-t / dies) * std::min({1.0, t / 0.002, (kLasts - t) / 0.06});
            if (how == Moves::Vibrato)
                semitones = deep * std::sin(2.0 * kPi * quick * t) * std::clamp(t - 0.4, 0.0, 1.0);
            if (how == Moves::Bend) semitones = steps * std::clamp((t - bendS) / bendOver, 0.0, 1.0);
            if (how == Moves::Tremolo) level *= 1.0 - shallow * (0.5 + 0.5 * std::sin(2.0 * kPi * turns * t));
            if (how == Moves::Swell) level = std::min({1.0, t / swellS, (kLasts - t) / 0.3});
            phase += 2.0 * kPi * hz * std::exp2(semitones / 12.0) / kRate;
            double v = 0.0;
            for (int h = 1; h <= 12 && h * hz < 6000.0; ++h) {
                v += std::sin(h * phase + 1.7 * h * h) / std::pow(h, tilt);
                if (how == Moves::Beats)
                    v += (second * std::sin(h * phase * std::exp2(cents / 1200.0)) +
                          0.7 * std::sin(h * phase * 1.4995)) /
                         h;
            }
            x[std::size_t(start * kRate) + i] += float(0.1 * loud * level * v);
        }
        if (how != Moves::Swell) strokes.push_back(start);
    }
    learnAll(out, x, strokes, kNoNoteCounts);
}

void steady(std::vector<Example>& out, std::mt19937& random)
{
    std::normal_distribution<float> noise(0.0f, 0.1f);
    std::vector<float> hiss(12 * kRate), hum(hiss.size());
    for (std::size_t i = 0; i < hiss.size(); ++i) {
        hiss[i] = noise(random);
        for (int h = 1; h < 12; ++h)
            hum[i] += float(0.1 * std::pow(10.0, -0.15 * h) *
                            std::sin(2.0 * std::numbers::pi * 50.03 * h * double(i) / kRate + h * h));
        hum[i] += 0.03f * noise(random);
    }
    learnAll(out, hiss, {}, kNoNoteCounts), learnAll(out, hum, {}, kNoNoteCounts);
}

} // namespace

int main()
{
    constexpr std::array<const char*, kClues> kNames{
        "sharp, dB",  "grows over 30 ms, dB", "over 60 ms",      "under the loudest, dB",   "rises over 24 ms",
        "over 40 ms", "of narrow bands",      "usual around it", "bands that rise by 4 dB", "grows over 10 ms, dB",
        "lasts, dB",  "stronger before",      "stronger behind", "how far behind, s",       "beside the strong ones"};
    std::vector<Example> all;
    for (const unsigned seed : {1u, 3u}) {
        for (const auto& voice : test::naturalVoices())
            for (const auto part : test::kNaturalParts) {
                const auto take = test::playNatural(voice, part, {.seed = seed}, kRate);
                learnAll(all, take.x, take.strokesS);
            }
        simulated(all, seed);
        std::mt19937 random(seed);
        for (const auto how : {Moves::Vibrato, Moves::Bend, Moves::Beats, Moves::Tremolo, Moves::Swell})
            moving(all, how, random);
        steady(all, random);
        fmt::print(stderr, "seed {}: {} places\n", seed, all.size());
    }
    CurveFit<kClues> fit(all);
    fit.fit(
        all, [](const Example& e) { return e.isNote; }, [](const Example& e) { return e.counts; }, kRidge);
    fit.print("bench/fit-onsets", "Onset", kNames);
}
