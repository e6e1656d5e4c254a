// Judged on guitars that nobody tuned on: `bench/natural-sound [SEEDS] [FIRST] [onsets|offsets|pairs|clipping]`.
// Onsets, pairs and clipped takes of sampled guitars of two sound fonts, their attacks uncut, and of waveguide strings
// that share no code with core/sim; clean and through 20 times tanh. Odd seeds are for tuning, even ones are reported:
// `natural-sound 4 2` plays seeds 2, 4, 6, 8; `natural-sound 4 2 onsets` that alone.

#include "core/timing/double_take.h"
#include "core/timing/onsets.h"
#include "support/clip_ways.h"
#include "support/natural_guitar.h"
#include "support/onset_score.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <fmt/format.h>
#include <map>
#include <tuple>

using namespace gristle;

namespace {

constexpr int kRate = 48000;
constexpr double kDrive = 20.0;

struct Found {
    std::size_t right = 0, found = 0, played = 0;
    double f1() const { return 2.0 * double(right) / double(std::max<std::size_t>(1, found + played)); }
    void operator+=(const Found& o) { right += o.right, found += o.found, played += o.played; }
    void operator+=(const test::OnsetScore& o) { right += o.offMs.size(), found += o.found, played += o.played; }
};

struct Share {
    int yes = 0, of = 0;
    void count(bool is) { yes += is, ++of; }
    std::string text() const { return of > 0 ? fmt::format("{:3.0f} % of {}", 100.0 * yes / of, of) : "-"; }
};

/// How far the offsets of a pair's notes are from the truth, and what one is said to lack that both have.
struct Offsets {
    std::vector<double> offMs;
    std::size_t within = 0; ///< two standard errors
    Share lacks;            ///< of the pairs
    void judge(const test::NaturalTake& first, const test::NaturalTake& second)
    {
        const auto pair = core::comparePerformances(first.x, second.x, kRate);
        if (!pair) return;
        lacks.count(pair->unmatchedFirst + pair->unmatchedSecond > 0);
        for (const core::NotePair& n : pair->notes) {
            const auto near =
                std::ranges::min_element(first.strokesS, {}, [&](double t) { return std::abs(t - n.timeS); });
            const auto stroke = std::size_t(near - first.strokesS.begin());
            if (std::abs(*near - n.timeS) > 0.045) continue; // no stroke at all: an onset too many
            offMs.push_back(n.offsetMs - 1000.0 * (second.strokesS[stroke] - *near));
            within += std::abs(offMs.back()) < 2.0 * n.offsetDoubtMs;
        }
    }
    std::string text() const
    {
        double squares = 0.0, mean = 0.0;
        for (const double o : offMs) mean += o / double(offMs.size());
        for (const double o : offMs) squares += (o - mean) * (o - mean) / double(offMs.size());
        return fmt::format("sd {:5.2f} ms, {:3.0f} % within two standard errors, {} pairs said to lack a note",
                           std::sqrt(squares), 100.0 * double(within) / double(std::max<std::size_t>(1, offMs.size())),
                           lacks.text());
    }
};

/// A verdict that calls it a double: not another part, no copy, enough notes.
bool isTaken(const core::Result<core::DoubleTake>& pair)
{
    return pair && !pair->isUnrelated && !pair->isCopy && !pair->isTooShort();
}

struct Jury {
    int seeds, first;
    std::vector<test::NaturalVoice> voices;
};

/// Onsets, clean and driven.
void judgeOnsets(const Jury& jury)
{
    fmt::print("onsets, F1 within 25 ms, seeds {} to {}: clean, driven\n", jury.first,
               jury.first + 2 * (jury.seeds - 1));
    fmt::print("{:12}", "");
    for (const auto part : test::kNaturalParts) fmt::print("{:>14}", test::nameOf(part));
    fmt::print("\n");
    Found clean, dirty;
    std::map<std::string, std::pair<Found, Found>> parts; ///< clean, driven
    for (const auto& voice : jury.voices) {
        fmt::print("{:12}", voice.name);
        for (const auto part : test::kNaturalParts) {
            Found plain, hard;
            for (int i = 0; i < jury.seeds; ++i) {
                const auto take = test::playNatural(voice, part, {.seed = unsigned(jury.first + 2 * i)}, kRate);
                plain += test::scoreOf(core::findOnsets(take.x, kRate), take.strokesS);
                hard += test::scoreOf(core::findOnsets(test::driven(take.x, kDrive, kRate), kRate), take.strokesS);
            }
            clean += plain, dirty += hard;
            parts[test::nameOf(part)].first += plain, parts[test::nameOf(part)].second += hard;
            fmt::print("   .{:03.0f}  .{:03.0f}", 999.0 * plain.f1(), 999.0 * hard.f1());
            std::fflush(stdout);
        }
        fmt::print("\n");
    }
    fmt::print("all: clean {:.3f} ({} lost, {} false of {}), driven {:.3f}\n", clean.f1(), clean.played - clean.right,
               clean.found - clean.right, clean.played, dirty.f1());
    for (const auto& [name, of] : parts)
        fmt::print("  {:11} clean {:.3f}, driven {:.3f}\n", name, of.first.f1(), of.second.f1());
}

/// Offsets of pairs, and notes that one is said to lack.
void judgeOffsets(const Jury& jury)
{
    fmt::print("offsets of pairs, 5 ms of spread on either side\n");
    for (const bool isDirty : {false, true})
        for (const std::size_t other : {0, 1}) {
            std::map<std::string, Offsets> ofPart;
            for (std::size_t v = 0; v < jury.voices.size(); ++v)
                for (const auto part : test::kNaturalParts)
                    for (int i = 0; i < jury.seeds; ++i) {
                        const auto played = [&](std::size_t voice, unsigned own) {
                            auto take =
                                test::playNatural(jury.voices[voice % jury.voices.size()], part,
                                                  {.spreadMs = 5.0, .seed = own + unsigned(jury.first + 2 * i)}, kRate);
                            if (isDirty) take.x = test::driven(std::move(take.x), kDrive, kRate);
                            return take;
                        };
                        ofPart[test::nameOf(part)].judge(played(v, 1000), played(v + other, 2000));
                    }
            for (const auto& [name, of] : ofPart)
                fmt::print("  {:11}{:7}{:13}{}\n", name, isDirty ? "driven" : "",
                           other ? "other guitar" : "same guitar", of.text());
            std::fflush(stdout);
        }
}

/// What is a double, and what is another part.
void judgePairs(const Jury& jury)
{
    Share doubles, others, semitone, fifth, octave, rhythm, named, inBars;
    for (std::size_t v = 0; v < jury.voices.size(); ++v)
        for (const auto part : test::kNaturalParts)
            for (int i = 0; i < jury.seeds; ++i) {
                const unsigned seed = unsigned(jury.first + 2 * i);
                const auto play = [&](std::size_t voice, unsigned own, int semitones, bool isOther = false) {
                    return test::playNatural(jury.voices[voice % jury.voices.size()], part,
                                             {.spreadMs = 5.0, .semitones = semitones, .isOther = isOther, .seed = own},
                                             kRate)
                        .x;
                };
                const auto one = play(v, 1000 + seed, 0);
                const auto against = [&](const std::vector<float>& other) {
                    return core::comparePerformances(one, other, kRate);
                };
                for (const auto& [share, voice, own] : {std::tuple(&doubles, v, 2000u), {&others, v + 1, 3000u}}) {
                    const auto pair = against(play(voice, own + seed, 0));
                    share->count(isTaken(pair));
                    inBars.count(pair && !pair->otherPitch.empty());
                }
                for (const auto& [share, semitones] : {std::pair(&semitone, 1), {&fifth, 7}, {&octave, 12}}) {
                    const auto pair = against(play(v, 4000 + seed + unsigned(semitones) * 100, semitones));
                    share->count(!isTaken(pair));
                    named.count(pair && pair->semitonesHigher == semitones);
                }
                const auto pair = against(play(v, 9000 + seed, 0, true));
                rhythm.count(!isTaken(pair));
                named.count(pair && pair->isOtherNotes);
            }
    fmt::print("pairs that are taken for doubles: same guitar {}; another guitar {}\n", doubles.text(), others.text());
    fmt::print("of these said to play some bars at another pitch, which none does: {}\n", inBars.text());
    fmt::print("told to be something else: a semitone {}; a fifth {}; an octave {}; other notes in the same rhythm {}; "
               "named as what they are {}\n",
               semitone.text(), fifth.text(), octave.text(), rhythm.text(), named.text());
}

/// Takes that were clipped by 3 dB and more, however hidden, and takes that were not.
void judgeClipping(const Jury& jury)
{
    std::map<std::string, Share> clean, clipped;
    for (int i = 0; i < jury.seeds; ++i)
        for (const auto& voice : jury.voices)
            for (const auto part : test::kNaturalParts) {
                auto x = test::playNatural(voice, part, {.seed = unsigned(jury.first + 2 * i)}, kRate).x;
                const float most = std::abs(*std::ranges::max_element(x, {}, [](float v) { return std::abs(v); }));
                for (float& v : x) v /= most;
                const auto isTold = [&](const std::vector<float>& of) { // as clipped, or as driven
                    return test::heldPeaksOf(of, kRate).isHeld();
                };
                for (const auto& way : test::cleanWays()) clean[way.name].count(isTold(way.clip(x, 0.0, kRate)));
                for (const auto& way : test::clipWays())
                    for (const double dB : {3.0, 6.0, 12.0})
                        clipped[fmt::format("{} by {} dB", way.name, dB)].count(isTold(way.clip(x, dB, kRate)));
            }
    fmt::print("takes that are said to be clipped or driven\n");
    for (const auto* kinds : {&clean, &clipped})
        for (const auto& [name, share] : *kinds)
            fmt::print("  {:10}{:38} {}\n", kinds == &clean ? "clean" : "clipped", name, share.text());
}

} // namespace

int main(int argc, char** argv)
{
    const Jury jury{argc > 1 ? std::atoi(argv[1]) : 2, argc > 2 ? std::atoi(argv[2]) : 1, test::naturalVoices()};
    const std::string only = argc > 3 ? argv[3] : "";
    const std::pair<const char*, void (*)(const Jury&)> juries[] = {
        {"onsets", judgeOnsets}, {"offsets", judgeOffsets}, {"pairs", judgePairs}, {"clipping", judgeClipping}};
    for (const auto& [name, judge] : juries)
        if (only.empty() || only == name) judge(jury);
}
