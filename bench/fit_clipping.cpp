// Fits what each clue of a clipped take is worth: `bench/fit-clipping > src/core/measure/clip_weights.h`. Odd seeds of
// the guitars of bench/natural-sound and simulated ones, played by hands and evenly, and of plucks by
// formula, clipped and not. A logistic
// regression; six minutes.

#include "core/measure/held_peaks.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "logistic_fit.h"
#include "support/clip_ways.h"
#include "support/natural_guitar.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <random>

using namespace gristle;

namespace {

using Clues = std::array<double, core::kPeakClues>;

constexpr double kRidge = 3.0;

struct Example {
    Clues clues;
    bool isClipped;
    double counts;
};

/// Notes by formula, one as strong as the other: partials that die away.
std::vector<float> plainPlucks(std::mt19937& random, int rateHz)
{
    std::uniform_real_distribution<double> uniform(0.0, 1.0);
    const double eachS = 0.15 + 0.4 * uniform(random), dies = 1.0 + 5.0 * uniform(random);
    const int partials = 1 + int(random() % 6);
    std::vector<float> x(std::size_t(rateHz) * 8);
    for (double from = 0.3; from + eachS < 8.0; from += eachS) {
        const double hz = 82.4 * std::exp2(double(random() % 25) / 12.0);
        for (std::size_t i = 0; i < std::size_t(0.9 * eachS * rateHz); ++i)
            for (int k = 1; k <= partials; ++k) {
                const double t = double(i) / rateHz;
                x[std::size_t(from * rateHz) + i] += float(std::exp(-dies * t * (1.0 + 0.3 * k)) *
                                                           std::sin(2.0 * std::numbers::pi * hz * k * t + k) / k);
            }
    }
    return x;
}

std::vector<float> atOne(std::vector<float> x)
{
    float most = 1e-9f;
    for (const float v : x) most = std::max(most, std::abs(v));
    for (float& v : x) v /= most;
    return x;
}

} // namespace

int main()
{
    constexpr const char* kNames[core::kPeakClues] = {"half waves at the ceiling",
                                                      "half waves under it",
                                                      "corners: likelier at it than under it",
                                                      "corners at it less those under it",
                                                      "corners under it",
                                                      "flat to 4 %: of those at it",
                                                      "one side only",
                                                      "samples within 12 % of it, of those within 25 %"};
    std::vector<Example> all;
    std::size_t n = 0;
    const auto learn = [&](const std::vector<float>& take, int rate) {
        const auto x = atOne(take);
        ++n;
        for (const auto& way : test::cleanWays())
            all.push_back({test::heldPeaksOf(way.clip(x, 0.0, rate), rate).clues, false, 1.0});
        for (const auto& way : test::clipWays())
            for (const double dB : {3.0, n % 2 == 0 ? 6.0 : 12.0})
                if (!way.isSoft || dB > 3.0 || way.name != "tanh") // a tanh so slight bends, it does not hold
                    all.push_back({test::heldPeaksOf(way.clip(x, dB, rate), rate).clues, true, 1.0});
    };
    constexpr std::array kSeconds{16.0, 8.0, 12.0};
    constexpr std::array kRates{48000, 44100, 96000};
    for (const unsigned seed : {1u, 3u}) {
        for (const bool isEven : {false, true})
            for (const auto& voice : test::naturalVoices())
                for (const auto part : test::kNaturalParts) {
                    const int rate = kRates[n % kRates.size()];
                    learn(test::playNatural(
                              voice, part,
                              {.seconds = kSeconds[n / 3 % kSeconds.size()], .isEven = isEven, .seed = seed}, rate)
                              .x,
                          rate);
                }
        for (const auto& written : {core::rhythmRiff(6), core::brokenChords(6, 4.0)})
            for (const bool isEven : {false, true}) {
                core::PlayingStyle style;
                style.seed = seed;
                if (isEven) style.dynamicsSdDb = 0.0;
                learn(core::perform(written, 118.0, core::standardTuning(), style, kRates[0]).volts, kRates[0]);
            }
        std::mt19937 random(seed);
        for (int i = 0; i < 15; ++i) learn(plainPlucks(random, kRates[0]), kRates[0]);
        fmt::print(stderr, "seed {}: {} takes\n", seed, all.size());
    }
    const double clipped = double(std::ranges::count_if(all, &Example::isClipped));
    for (Example& e : all) e.counts = e.isClipped ? 1.0 : clipped / (double(all.size()) - clipped);
    const auto row = [](const Example& e) {
        std::vector<double> out{1.0};
        out.insert(out.end(), e.clues.begin(), e.clues.end());
        return out;
    };
    const auto weights = logisticFit(
        all, row, [](const Example& e) { return e.isClipped; }, [](const Example& e) { return e.counts; }, kRidge);
    fmt::print(
        "#pragma once\n\n#include <array>\n\nnamespace gristle::core {{\n\n"
        "// What the clues of a clipped take are worth, in log odds. Made by bench/fit-clipping; not to be changed "
        "by hand.\ninline constexpr double kClipBias = {:.3f};\ninline constexpr std::array<double, {}> "
        "kClipWeights{{\n",
        weights[0], core::kPeakClues);
    for (std::size_t c = 0; c < core::kPeakClues; ++c) fmt::print("    {:.4f}, // {}\n", weights[c + 1], kNames[c]);
    fmt::print("}};\n\n}} // namespace gristle::core\n");
}
