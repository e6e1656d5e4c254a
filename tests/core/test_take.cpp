// Takes judged bar by bar, the best of several, and joins, on simulated performances with known faults.

#include "core/advice/take_judgement.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "core/timing/comp.h"
#include "core/timing/strings.h"

#include <QtTest/QtTest>
#include <random>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0, kTempo = 104.0, kBeforeS = 0.5;
constexpr int kBars = 8;

std::vector<WrittenNote> partOf(int which)
{
    if (which == 0) return rhythmRiff(kBars);
    if (which == 1) return brokenChords(kBars, 4.0);
    return mutedSixteenths(kBars);
}

/// What comes in while somebody plays: half a second before the song begins is there, too.
std::vector<float> recorded(const std::vector<WrittenNote>& part, PlayingStyle style, double gainDb = 0.0)
{
    style.leadInS = kBeforeS;
    SimulatedInterface interface;
    interface.seed = style.seed;
    interface.gainDb = gainDb;
    return digitise(perform(part, kTempo, standardTuning(), style, kRate).volts, interface, kRate);
}

PlayingStyle hand(unsigned seed)
{
    PlayingStyle out;
    out.seed = seed;
    out.timingSdMs = 4.0;
    return out;
}

TakeMeasure measured(const std::vector<float>& x, const std::string& tuning = "")
{
    TakeMeasureOptions options;
    options.openHz = openStrings(tuning);
    options.atS = -kBeforeS;
    auto out = measureTake(x, kRate, BarGrid(kTempo, "4/4"), options);
    return out ? std::move(*out) : TakeMeasure{};
}

TakeJudgement judged(const TakeMeasure& take, const JudgeOptions& options = {})
{
    return judgeTake(take, BarGrid(kTempo, "4/4"), options);
}

std::vector<int> badBars(const TakeJudgement& take)
{
    std::vector<int> out;
    for (const BarVerdict& b : take.bars)
        if (b.isBad) out.push_back(b.bar);
    return out;
}

QString text(const std::vector<int>& bars)
{
    QStringList out;
    for (const int b : bars) out << QString::number(b);
    return out.join(", ");
}

} // namespace

class TestTake : public QObject {
    Q_OBJECT
private slots:
    void aCleanTakeHasNoBadBar()
    {
        int bad = 0, bars = 0;
        for (int part = 0; part < 3; ++part)
            for (unsigned seed = 1; seed < 4; ++seed) {
                const auto take = judged(measured(recorded(partOf(part), hand(seed))));
                QCOMPARE(take.bars.size(), std::size_t(kBars));
                bars += kBars, bad += int(badBars(take).size());
                QVERIFY2(take.timingSdMs && *take.timingSdMs > 2.0 && *take.timingSdMs < 6.0,
                         qPrintable(QString::number(take.timingSdMs.value_or(-1))));
            }
        QVERIFY2(bad <= bars / 50, qPrintable(QString("%1 of %2").arg(bad).arg(bars)));
    }

    void aBarThatDragsIsNamed()
    {
        int found = 0, false_ = 0, all = 0;
        for (int part = 0; part < 3; ++part)
            for (unsigned seed = 1; seed < 5; ++seed) {
                PlayingStyle style = hand(seed);
                style.lateFromBeat = 8.0, style.lateToBeat = 12.0, style.lateMs = seed % 2 ? 20.0 : -20.0;
                const auto bars = badBars(judged(measured(recorded(partOf(part), style))));
                ++all;
                found += std::ranges::find(bars, 3) != bars.end();
                false_ += int(bars.size()) - int(std::ranges::find(bars, 3) != bars.end());
            }
        QCOMPARE(found, all);
        QVERIFY2(false_ <= 2, qPrintable(QString::number(false_)));
    }

    void whatIsPlayedBeforeTheSongIsTold()
    {
        TakeMeasureOptions options;
        options.atS = -kBeforeS - 0.3; // its first note comes 0.3 s before bar 1
        const auto x = recorded(partOf(0), hand(2));
        const auto early = measureTake(x, kRate, BarGrid(kTempo, "4/4"), options);
        QVERIFY(early && early->notesBefore == 1);
        const auto told = judged(*early);
        QVERIFY(std::ranges::find(told.findings, std::string("take.before"), &Finding::code) != told.findings.end());
        QCOMPARE(measured(x).notesBefore, 0);
        options.spanFromS = 2.0, options.spanToS = 6.0; // of some bars: what leads there is no matter
        QCOMPARE(measureTake(x, kRate, BarGrid(kTempo, "4/4"), options)->notesBefore, 0);
    }

    void thePlaceOfTheWholeIsToldApart()
    {
        PlayingStyle style = hand(3);
        style.timingMeanMs = 25.0;
        const auto take = judged(measured(recorded(partOf(0), style)));
        QVERIFY2(badBars(take).empty(), qPrintable(text(badBars(take))));
        QVERIFY(std::ranges::find(take.findings, std::string("take.whole_late"), &Finding::code) !=
                take.findings.end());
        QVERIFY2(std::abs(*take.timingMedianMs - 25.0) < 8.0, qPrintable(QString::number(*take.timingMedianMs)));
    }

    void tuningIsToldWhereNotesSoundAlone()
    {
        PlayingStyle style = hand(5);
        style.tuningCents = 14.0;
        const auto sharp = judged(measured(recorded(partOf(1), style)));
        QVERIFY2(sharp.cents && std::abs(*sharp.cents - 14.0) < 1.5,
                 qPrintable(QString::number(sharp.cents.value_or(-99))));
        QVERIFY(sharp.sentence.find("cents sharp") != std::string::npos);
        // Against another reference the same notes are in tune: 443.57 Hz is 14 cents over 440.
        TakeMeasureOptions options;
        options.atS = -kBeforeS;
        options.referenceHz = 440.0 * std::exp2(14.0 / 1200.0);
        const auto tuned = measureTake(recorded(partOf(1), style), kRate, BarGrid(kTempo, "4/4"), options);
        QVERIFY(std::abs(*judged(*tuned).cents) < 1.5);
    }

    void aBarThatIsSofterIsToldByHowMuch()
    {
        auto x = recorded(partOf(2), hand(3));
        const double before = *judged(measured(x)).bars[5].levelDb; // another string than the bar beside it
        const BarGrid grid(kTempo, "4/4");
        const auto at = [&](double bar) { return std::size_t((kBeforeS + grid.secondsOfBar(bar) - 0.03) * kRate); };
        for (std::size_t i = at(6.0); i < at(7.0); ++i) x[i] *= 0.398f; // 8 dB
        const auto take = judged(measured(x));
        QCOMPARE(take.bars[5].bar, 6);
        QVERIFY2(std::abs(*take.bars[5].levelDb - before + 8.0) < 0.6,
                 qPrintable(QString("%1, %2").arg(*take.bars[5].levelDb).arg(before)));
        QVERIFY(take.bars[5].word.find("softer") != std::string::npos && !take.bars[5].isBad);
        QVERIFY(std::ranges::find(take.findings, std::string("take.level"), &Finding::code) != take.findings.end());
    }

    // Two takes whose bars differ by 0.5 on the mean, with a spread that makes this 2 standard errors: 97.7 %.
    void howSureTheBestIsFollowsGauss()
    {
        TakeJudgement better, worse;
        for (int b = 1; b <= 16; ++b) {
            BarVerdict bar;
            bar.bar = b;
            better.bars.push_back(bar);
            bar.cost = 0.5 + (b % 2 ? 0.968 : -0.968); // sd 1 over n - 1, so the error of 16 bars is a quarter
            worse.bars.push_back(bar);
        }
        worse.cost = 0.5;
        const auto best = bestTake({worse, better});
        QVERIFY(best && best->index == 1 && best->next == std::size_t(0));
        // The rule adds 0.05 to the error, in squares.
        const double z = 0.5 / std::hypot(0.25, 0.05);
        QVERIFY2(std::abs(best->sure - 0.5 * std::erfc(-z / std::sqrt(2.0))) < 0.002,
                 qPrintable(QString::number(best->sure)));
        QVERIFY(std::abs(best->sure - 0.977) < 0.004);
    }

    void aStringThatIsOutByItselfIsNamed()
    {
        OpenStrings strings = standardTuning();
        strings[0] *= std::exp2(18.0 / 1200.0);
        std::vector<WrittenNote> part; // quarter notes, half of them low
        for (int i = 0; i < 4 * kBars; ++i) part.push_back({double(i), 0.9, {{i % 2 == 0 ? 0 : 2, i % 4}}, 0.8, false});
        PlayingStyle style = hand(6);
        style.leadInS = kBeforeS;
        const auto x = digitise(perform(part, kTempo, strings, style, kRate).volts, {}, kRate);
        const auto take = judged(measured(x, "E standard"));
        const auto at = std::ranges::find(take.findings, std::string("take.string"), &Finding::code);
        QVERIFY(at != take.findings.end());
        QVERIFY2(at->title.starts_with("The low E string is ") && at->title.ends_with("cents sharp"),
                 at->title.c_str());
        // Each note differs by 1.5 cents: the median of 16 of them by 0.5, three times that are granted.
        QCOMPARE(take.strings.size(), std::size_t(2));
        QVERIFY(std::abs(take.strings[0].cents - 18.0) < 1.5 && take.strings[0].name == "low E");
        QVERIFY(std::abs(take.strings[1].cents) < 1.5 && take.strings[1].name == "D");
        QVERIFY(std::abs(take.strings[0].apart - 18.0) < 2.2 && take.strings[0].doubt < 1.0);
        // The tuning is not known: notes are told, no string.
        const auto unknown = judged(measured(x));
        QVERIFY(unknown.strings.empty() && unknown.findings[0].code == "take.tuning");
    }

    void whatClipsIsFoundInItsBar()
    {
        auto x = recorded(partOf(1), hand(2));
        const std::size_t at = std::size_t((kBeforeS + BarGrid(kTempo, "4/4").secondsOfBar(5.5)) * kRate);
        for (std::size_t i = at; i < at + 30; ++i) x[i] = 1.0f;
        const auto take = judged(measured(x));
        QCOMPARE(badBars(take), std::vector<int>{5});
        QVERIFY(take.sentence.starts_with("Clips in bar 5"));
    }

    void missedAndAddedNotesAreToldAgainstTheOthers()
    {
        const auto part = partOf(1);
        auto without = part, with = part;
        without.erase(without.begin() + 19); // an eighth of bar 3
        with.insert(with.begin() + 34, WrittenNote{16.75, 0.3, {{2, 4}}, 0.8, false});
        std::vector<TakeMeasure> takes;
        takes.push_back(measured(recorded(part, hand(1))));
        takes.push_back(measured(recorded(without, hand(2))));
        takes.push_back(measured(recorded(with, hand(3))));
        std::vector<const TakeMeasure*> all{&takes[0], &takes[1], &takes[2]};
        const auto first = missedNotes(all, 0), second = missedNotes(all, 1), third = missedNotes(all, 2);
        QVERIFY(first.missedS.empty() && first.addedS.empty());
        const double eighth = 30.0 / kTempo;
        QCOMPARE(second.missedS.size(), std::size_t(1));
        QVERIFY(std::abs(second.missedS[0] - 19.0 * eighth) < 0.03);
        QCOMPARE(third.addedS.size(), std::size_t(1));
        QVERIFY(std::abs(third.addedS[0] - 16.75 * 2.0 * eighth) < 0.03);
        JudgeOptions options;
        options.missed = second;
        QCOMPARE(badBars(judged(takes[1], options)), std::vector<int>{3});
    }

    void aBumpBetweenNotesIsNoNote()
    {
        std::vector<WrittenNote> part; // a chord a bar, and then rest
        for (int bar = 0; bar < kBars; ++bar) part.push_back({bar * 4.0, 1.5, {{1, 2}, {2, 2}, {3, 2}}, 0.9, false});
        auto x = recorded(part, hand(4));
        QVERIFY(measured(x).noises.empty());
        std::mt19937 random(7);
        std::normal_distribution<float> noise;
        const double at = BarGrid(kTempo, "4/4").secondsOfBar(4.75);
        for (std::size_t i = 0; i < 2400; ++i) // 50 ms of a hand on the strings
            x[std::size_t((kBeforeS + at) * kRate) + i] +=
                0.004f * noise(random) * std::sin(3.14159f * float(i) / 2400.0f);
        const TakeMeasure take = measured(x);
        const auto& found = take.noises;
        QCOMPARE(found.size(), std::size_t(1));
        // Noise of 0.004 at its loudest 10 ms, as AES17 tells it.
        const double truth = 20.0 * std::log10(0.004 * std::sqrt(2.0)) - take.usualDbfs;
        QVERIFY2(std::abs(found[0].levelDb - truth) < 1.5,
                 qPrintable(QString("%1, %2").arg(found[0].levelDb).arg(truth)));
        QVERIFY(std::abs(found[0].timeS - at - 0.025) < 0.03);
    }

    void silenceAndNoBeatAreSaid()
    {
        const std::vector<float> nothing(48000, 0.0f);
        const auto silent = measureTake(nothing, kRate, BarGrid(kTempo, "4/4"), {});
        QVERIFY(!silent && silent.error().message.find("nobody plays") != std::string::npos);
        // Notes at no division of the beat: timing is not invented.
        std::vector<WrittenNote> part;
        double beat = 0.0;
        for (int i = 0; i < 24; ++i) part.push_back({beat += 0.71 + 0.13 * (i % 5), 0.6, {{2, i % 5}}, 0.8, false});
        const auto free = judged(measured(recorded(part, hand(1))));
        QVERIFY(!free.timingSdMs);
        QVERIFY(free.sentence.find("timing is not told") != std::string::npos);
    }

    void theBestTakeIsNamedWithItsReason()
    {
        std::vector<TakeJudgement> takes;
        for (const double sd : {9.0, 3.0, 7.0}) {
            PlayingStyle style = hand(11 + unsigned(sd));
            style.timingSdMs = sd;
            takes.push_back(judged(measured(recorded(partOf(2), style))));
        }
        const auto best = bestTake(takes);
        QVERIFY(best && best->index == 1);
        QVERIFY2(best->sure > 0.95, qPrintable(QString::number(best->sure)));
        QVERIFY2(best->reason.find("timing") != std::string::npos, best->reason.c_str());
        QVERIFY(!bestTake({}));
        // Two that are alike: nobody is sure.
        const auto same = bestTake({takes[1], takes[1]});
        QVERIFY(std::abs(same->sure - 0.5) < 0.01);
    }

    // Every way through the bars is tried, on cases small enough for that.
    void theProposedCompIsTheCheapestOfAll()
    {
        std::mt19937 random(5);
        std::uniform_real_distribution<double> even;
        for (int round = 0; round < 60; ++round) {
            const std::size_t takes = 2 + random() % 3;
            std::vector<CompBar> bars(2 + random() % 5);
            for (std::size_t b = 0; b < bars.size(); ++b) {
                bars[b].bar = int(b) + 1;
                for (std::size_t t = 0; t < takes; ++t)
                    bars[b].cost.push_back(t > 0 && even(random) < 0.2 ? std::nullopt
                                                                       : std::optional(4.0 * even(random)));
            }
            std::vector<std::vector<std::vector<double>>> prices(
                bars.size() + 2, std::vector<std::vector<double>>(takes, std::vector<double>(takes)));
            for (auto& at : prices)
                for (auto& row : at)
                    for (double& p : row) p = 2.0 * even(random);
            const auto join = [&](std::size_t from, std::size_t to, int bar) {
                return Join{double(bar), 0.01, Join::Kind::Rest, prices[std::size_t(bar)][from][to]};
            };
            const Comp found = shortestComp(bars, join);
            double cheapest = 1e9;
            std::vector<int> choice(bars.size(), 0);
            for (;;) {
                bool isPlayed = true;
                for (std::size_t b = 0; b < bars.size(); ++b)
                    isPlayed &= bars[b].cost[std::size_t(choice[b])].has_value();
                if (isPlayed) cheapest = std::min(cheapest, compOf(bars, choice, join).cost);
                std::size_t b = 0;
                while (b < bars.size() && ++choice[b] == int(takes)) choice[b++] = 0;
                if (b == bars.size()) break;
            }
            QVERIFY2(std::abs(found.cost - cheapest) < 1e-9,
                     qPrintable(QString("%1 %2").arg(found.cost).arg(cheapest)));
            // A bar whose take is given keeps it.
            std::vector<int> kept(bars.size(), -1);
            kept.back() = 0;
            QCOMPARE(shortestComp(bars, join, kept).choice.back(), 0);
        }
    }

    void joinsLieAtRestsOrBeforeNotesThatBothBegin()
    {
        const BarGrid grid(kTempo, "4/4");
        // Chords with rests behind them.
        std::vector<WrittenNote> part;
        for (int bar = 0; bar < kBars; ++bar) part.push_back({bar * 4.0, 1.5, {{1, 2}, {2, 2}, {3, 2}}, 0.9, false});
        const auto a = measured(recorded(part, hand(1))), b = measured(recorded(part, hand(2)));
        const Join rest = findJoin(a, b, grid, 4.0);
        QCOMPARE(rest.kind, Join::Kind::Rest);
        QVERIFY(rest.atS < grid.secondsOfBar(4.0) && rest.atS > grid.secondsOfBar(3.6));
        // Without rests: a few ms before the first of the two onsets.
        const auto c = measured(recorded(partOf(1), hand(1))), d = measured(recorded(partOf(1), hand(2)));
        const Join onset = findJoin(c, d, grid, 4.0);
        QCOMPARE(onset.kind, Join::Kind::Onset);
        double nearest = 1.0;
        for (const auto* take : {&c, &d})
            for (const PlayedNote& n : take->notes) {
                QVERIFY2(n.timeS < onset.atS || n.timeS > onset.atS + 0.003, "it would cut an attack");
                if (n.timeS > onset.atS) nearest = std::min(nearest, n.timeS - onset.atS);
            }
        QVERIFY(nearest < 0.005);
        // One note rings over the bar line of both: to cut it costs more than any bar.
        std::vector<WrittenNote> ringing{{0.0, 16.0, {{0, 0}}, 0.9, false}, {16.0, 4.0, {{0, 0}}, 0.9, false}};
        const auto e = measured(recorded(ringing, hand(1))), f = measured(recorded(ringing, hand(2)));
        QCOMPARE(findJoin(e, f, grid, 2.0).cost, 50.0);
        QCOMPARE(findJoin(e, f, grid, 2.0).kind, Join::Kind::Ringing);
    }
};

QTEST_APPLESS_MAIN(TestTake)
#include "test_take.moc"
