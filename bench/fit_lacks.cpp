// Fits what speaks for a note that one of two performances lacks: `bench/fit-lacks [FIRST]
// > src/core/timing/lack_weights.h`. Odd seeds of the guitars of bench/natural-sound: two performances of each part, of
// which the second lost a stroke, on one guitar and on two, clean and through 20 times tanh. What is left over of
// either after pairing is the lost stroke, or a note that the other has, or none at all. The same where one struck
// once more, and with simulated hands.

#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "core/timing/lacking.h"
#include "logistic_fit.h"
#include "support/natural_guitar.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <random>

using namespace gristle;

namespace {

constexpr int kRate = 48000;
constexpr double kDrive = 20.0, kNearS = 0.045, kRidge = 1.0;

struct Example {
    core::LackClues clues;
    bool isLost;
};

/// Learns from what is left over of both.
void learn(std::vector<Example>& out, const test::NaturalTake& first, const test::NaturalTake& second, double lostS)
{
    const core::HeardPart a(first.x, kRate), b(second.x, kRate);
    const auto pairs = core::pairedOnsets(a.onsets, b.onsets, 0.0);
    const core::SoundsApart apart = core::soundsApart(a, b, pairs);
    const auto left = [&](const core::HeardPart& has, const core::HeardPart& other, const core::SoundsApart& beside,
                          auto index, bool mayLack) {
        std::size_t next = 0;
        for (std::size_t k = 0; k < has.onsets.size(); ++k)
            if (next < pairs.size() && index(pairs[next]) == k)
                ++next;
            else
                out.push_back({core::lackClues(has, k, other, 0.0, beside, kRate),
                               mayLack && std::abs(has.onsets[k].timeS - lostS) < kNearS});
    };
    left(
        a, b, apart, [](const auto& p) { return p.first; }, true);
    left(
        b, a, apart.turned(), [](const auto& p) { return p.second; }, false);
}

/// Simulated hands of which one left a note out, or struck one more.
void learnSimulated(std::vector<Example>& out, std::mt19937& random, unsigned seed, bool isDirty)
{
    const auto play = [&](const std::vector<core::WrittenNote>& part, unsigned own) {
        core::PlayingStyle style;
        style.seed = own + seed;
        auto volts = core::perform(part, 118.0, core::standardTuning(), style, kRate).volts;
        return test::NaturalTake{isDirty ? test::driven(std::move(volts), kDrive, kRate) : std::move(volts), {}};
    };
    for (const auto& part : {core::rhythmRiff(8), core::brokenChords(8, 4.0)})
        for (int i = 0; i < 12; ++i) {
            const std::size_t lost = 3 + random() % (part.size() - 6);
            auto fewer = part, more = part;
            fewer.erase(fewer.begin() + long(lost));
            core::WrittenNote extra = part[lost];
            const double half = 0.5 * (part[lost + 1].beat - extra.beat);
            extra.beat += half, extra.beats = 0.9 * half;
            more.insert(more.begin() + long(lost) + 1, extra);
            const auto atS = [&](const core::WrittenNote& n) {
                return core::PlayingStyle{}.leadInS + n.beat * 60.0 / 118.0;
            };
            const auto whole = play(part, 300u + unsigned(i));
            learn(out, whole, play(fewer, 400u + unsigned(i)), atS(part[lost]));
            learn(out, play(more, 500u + unsigned(i)), whole, atS(extra));
        }
}

} // namespace

int main(int argc, char** argv)
{
    const unsigned firstSeed = argc > 1 ? unsigned(std::atoi(argv[1])) : 1;
    const auto voices = test::naturalVoices();
    std::vector<Example> all;
    std::mt19937 random(7);
    for (const unsigned seed : {firstSeed, firstSeed + 2}) {
        for (std::size_t v = 0; v < voices.size(); ++v)
            for (const auto part : test::kNaturalParts) {
                const auto one = test::playNatural(voices[v], part, {.spreadMs = 5.0, .seed = 1000 + seed}, kRate);
                for (const std::size_t other : {0, 1}) {
                    const int lost = 3 + int(random() % (one.strokesS.size() - 6));
                    const auto two =
                        test::playNatural(voices[(v + other) % voices.size()], part,
                                          {.spreadMs = 5.0, .lost = lost, .seed = 2000 + unsigned(lost) + seed}, kRate);
                    const double lostS = one.strokesS[std::size_t(lost)];
                    learn(all, one, two, lostS);
                    const auto dirty = [](test::NaturalTake take) {
                        take.x = test::driven(std::move(take.x), kDrive, kRate);
                        return take;
                    };
                    learn(all, dirty(one), dirty(two), lostS);
                    // One more, amid what both have.
                    const auto more = test::playNatural(
                        voices[(v + other) % voices.size()], part,
                        {.spreadMs = 5.0, .added = lost, .seed = 2000 + unsigned(lost) + seed}, kRate);
                    learn(all, more, one, more.strokesS[std::size_t(lost) + 1]);
                    learn(all, dirty(more), dirty(one), more.strokesS[std::size_t(lost) + 1]);
                }
            }
        for (const bool isDirty : {false, true}) learnSimulated(all, random, seed, isDirty);
        fmt::print(stderr, "seed {}: {} left over, {} lost\n", seed, all.size(),
                   std::ranges::count_if(all, &Example::isLost));
    }
    CurveFit<core::kLackClues> fit(all);
    fit.fit(
        all, [](const Example& e) { return e.isLost; }, [](const Example&) { return 1.0; }, kRidge);
    fit.print("bench/fit-lacks", "Lack",
              {"how sure the note is, log odds", "and one in the other", "sharp there, log2",
               "grows there over 60 ms, dB", "partials that come with it rise by, dB",
               "three in four of them rise there by at most", "spectra alike", "the other's last, s", "the next, s",
               "what came with it is there, dB over expected", "what was there before rings in the other, dB",
               "the other is louder than expected, dB"});
}
