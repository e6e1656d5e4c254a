// What two sides are to each other, what a copy costs in mono, and which takes make the best sides.

#include "core/actions/compare_sides.h"
#include "core/advice/pair_choice.h"
#include "core/advice/sides_words.h"
#include "core/measure/stereo_measure.h"
#include "core/stereo/complement.h"
#include "core/stereo/copy_delay.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <random>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;

/// Strokes whose attack is `attackDb` over what sustains, in a band around 2.5 kHz; and a low note under it.
std::vector<float> strokes(double attackDb, double low, const std::vector<double>& onsets, double seconds)
{
    std::vector<float> out(std::size_t(seconds * kRate), 0.0f);
    for (const double t : onsets)
        for (std::size_t i = 0; i < std::size_t(0.25 * kRate); ++i) {
            const double s = double(i) / kRate;
            const double high = s < 0.03 ? std::pow(10.0, attackDb / 20.0) : 1.0;
            const std::size_t at = std::size_t(t * kRate) + i;
            if (at < out.size())
                out[at] += float(0.02 * high * std::sin(2.0 * std::numbers::pi * 2500.0 * s) +
                                 low * std::sin(2.0 * std::numbers::pi * 150.0 * s));
        }
    return out;
}

} // namespace

class TestSides : public QObject {
    Q_OBJECT
private slots:
    void sidesAreTold_data()
    {
        QTest::addColumn<double>("attack");
        QTest::addColumn<double>("low");
        QTest::addColumn<QString>("words");
        QTest::newRow("one each") << -6.0 << 6.0 << "A has more attack, B more low end";
        QTest::newRow("both on the second")
            << 6.0 << 6.0 << "B has more of both, attack and low end: give A one of them, with less drive or more bass";
        QTest::newRow("both on the first")
            << -6.0 << -6.0
            << "A has more of both, attack and low end: give B one of them, with less drive or more bass";
        QTest::newRow("attack") << 6.0 << 0.0 << "B has more attack; their low end is even";
        QTest::newRow("low end") << 0.0 << -6.0 << "A has more low end; their attack is even";
        QTest::newRow("neither") << 0.0 << 0.0 << "The sides sound alike";
    }

    void sidesAreTold()
    {
        QFETCH(double, attack);
        QFETCH(double, low);
        Complement sides;
        sides.definitionApartDb = attack, sides.weightApartDb = low;
        QTEST(QString::fromStdString(sidesWords(sides, "A", "B")), "words");
    }

    /// The layer in hand and one across the middle; without takes there are none.
    void theSidesOfAPart()
    {
        Part part;
        QVERIFY(!sidesOf(part, 0));
        for (const double place : {-100.0, -60.0, 0.0, 80.0}) {
            Layer l;
            l.place = place;
            part.layers.push_back(l);
        }
        QVERIFY(!sidesOf(part, 0));
        for (Layer& l : part.layers) l.takes.resize(1);
        QCOMPARE(*sidesOf(part, 0), std::pair(std::size_t(0), std::size_t(3)));
        QCOMPARE(*sidesOf(part, 3), std::pair(std::size_t(0), std::size_t(3)));
        QCOMPARE(*sidesOf(part, 9), std::pair(std::size_t(0), std::size_t(3)));
        QCOMPARE(*sidesOf(part, 2), std::pair(std::size_t(0), std::size_t(2))); // nobody is across of the middle
        part.layers[3].takes.clear();
        QCOMPARE(*sidesOf(part, 1), std::pair(std::size_t(0), std::size_t(1)));
        part.layers[0].takes.clear(), part.layers[2].takes.clear();
        QVERIFY(!sidesOf(part, 1));
    }

    void edgeAndWeightAreThoseOfTheSignal()
    {
        const std::vector<double> onsets{0.5, 0.9, 1.3, 1.7};
        const auto sharp = soundOfSide(strokes(9.0, 0.02, onsets, 2.5), onsets, kRate);
        const auto dull = soundOfSide(strokes(1.0, 0.2, onsets, 2.5), onsets, kRate);
        QVERIFY2(std::abs(sharp.definitionDb - 9.0) < 0.7, qPrintable(QString::number(sharp.definitionDb)));
        QVERIFY2(std::abs(dull.definitionDb - 1.0) < 0.7, qPrintable(QString::number(dull.definitionDb)));
        // Low and high tones of 0.2 and 0.02: nearly all of it is low.
        QVERIFY(dull.weightDb > -0.5 && sharp.weightDb < dull.weightDb - 3.0);
        // What does not decay rings on as it began.
        QVERIFY(std::abs(dull.looseLowDb) < 0.7);
        // A sine's crest is 3 dB.
        std::vector<float> sine = test::sine(200.0, 0.5, kRate, 2.5);
        QVERIFY(std::abs(soundOfSide(sine, onsets, kRate).crestDb - 3.01) < 0.1);
    }

    void whatTheSumKeepsOfTheAttack()
    {
        std::vector<double> onsets, later;
        for (int i = 0; i < 8; ++i) onsets.push_back(0.5 + 0.4 * i), later.push_back(0.54 + 0.4 * i);
        const auto a = strokes(9.0, 0.05, onsets, 4.0);
        const Complement same = complementOf(a, a, onsets, onsets, kRate);
        QVERIFY(std::abs(same.attackKeptDb) < 0.1 && same.spectrumApartDb < 1e-6);
        const Complement apart = complementOf(a, strokes(9.0, 0.05, later, 4.0), onsets, later, kRate);
        QVERIFY2(apart.attackKeptDb < -2.0, qPrintable(QString::number(apart.attackKeptDb)));
        const Complement two = complementOf(a, strokes(2.0, 0.4, onsets, 4.0), onsets, onsets, kRate);
        QVERIFY(two.definitionApartDb < -5.0 && two.weightApartDb > 1.0 && two.spectrumApartDb > 3.0);
    }

    // Against the meter that measures stereo files, on noise, on tones, and by the formula for a tone.
    void whatACopyCostsIsWhatIsMeasured()
    {
        const auto noise = test::whiteNoise(0.1, 96000);
        auto tone = test::sine(200.0, 0.3, kRate, 2.0);
        for (const auto& x : {noise, tone}) {
            const auto curve = copyDelays(x, kRate, 0.8, 5.0, 30.0);
            QVERIFY(bool(curve));
            QCOMPARE(curve->size(), std::size_t(251));
            for (const std::size_t i : {0, 37, 120, 250}) {
                const auto lag = std::size_t(std::llround((*curve)[i].ms * 48.0));
                std::vector<float> left = x, right(x.size() + lag, 0.0f);
                left.resize(right.size(), 0.0f);
                for (std::size_t k = 0; k < x.size(); ++k) right[k + lag] = 0.8f * x[k];
                StereoMeter meter(kRate);
                meter.push(left, right);
                QVERIFY2(std::abs((*curve)[i].lossDb - *meter.result().monoLossDb) < 0.02,
                         qPrintable(QString("%1 ms: %2").arg((*curve)[i].ms).arg((*curve)[i].lossDb)));
            }
        }
        QVERIFY(!copyDelays(std::vector<float>(96000, 0.0f), kRate, 1.0, 5.0, 30.0));
        QVERIFY(!copyDelays(test::whiteNoise(0.1, 4800), kRate, 1.0, 5.0, 30.0));
    }

    void pairsCostWhatIsWrongWithThem()
    {
        const DoubleLimits limits;
        DoubleTake take;
        take.notes.resize(100);
        take.offsetSdMs = 7.5;
        QCOMPARE(pairCost(take, limits), 0.25);
        take.tuningMeanCents = 5.0;
        QCOMPARE(pairCost(take, limits), 0.75);
        take.unmatchedFirst = 20;
        QVERIFY(std::abs(pairCost(take, limits) - 0.75 - 10.0 * 20.0 / 220.0) < 1e-12);
        take = {};
        take.notes.resize(100);
        take.offsetSdMs = 1.0;
        QVERIFY(pairCost(take, limits) >= 3.0);
        take.isCopy = true;
        QVERIFY(pairCost(take, limits) >= 100.0);
    }

    // Every way to put takes on two sides is tried.
    void theBestSidesAreTheCheapestOfAll()
    {
        std::mt19937 random(3);
        std::uniform_real_distribution<double> even;
        for (int round = 0; round < 30; ++round) {
            const std::size_t n = 4 + random() % 4;
            PairCosts pairs(n, std::vector<double>(n, 0.0));
            std::vector<double> own;
            for (std::size_t a = 0; a < n; ++a) {
                own.push_back(even(random));
                for (std::size_t b = 0; b < a; ++b) pairs[a][b] = pairs[b][a] = 3.0 * even(random);
            }
            for (const std::size_t count : {2, 4}) {
                // Each take is left (1), right (2) or out (0).
                double cheapest = 1e9, next = 1e9;
                std::vector<int> bestUsed;
                std::vector<std::pair<double, std::vector<int>>> all;
                std::vector<int> side(n, 0);
                for (;;) {
                    std::vector<std::size_t> on[3];
                    for (std::size_t t = 0; t < n; ++t) on[side[t]].push_back(t);
                    if (on[1].size() == count / 2 && on[2].size() == count / 2) {
                        double cost = 0.0;
                        for (const int s : {1, 2}) {
                            for (const std::size_t t : on[s]) cost += own[t];
                            if (count == 4) cost += 0.5 * pairs[on[s][0]][on[s][1]];
                        }
                        for (const std::size_t l : on[1])
                            for (const std::size_t r : on[2]) cost += pairs[l][r];
                        std::vector<int> used;
                        for (const int s : side) used.push_back(s > 0);
                        all.emplace_back(cost, used);
                        if (cost < cheapest) cheapest = cost, bestUsed = used;
                    }
                    std::size_t t = 0;
                    while (t < n && ++side[t] == 3) side[t++] = 0;
                    if (t == n) break;
                }
                for (const auto& [cost, used] : all)
                    if (used != bestUsed) next = std::min(next, cost);
                const auto found = bestSides(pairs, own, count);
                QVERIFY(found && std::abs(found->cost - cheapest) < 1e-9);
                QCOMPARE(found->nextCost.has_value(), next < 1e9);
                if (found->nextCost) QVERIFY(std::abs(*found->nextCost - next) < 1e-9);
            }
        }
        QVERIFY(!bestSides({{0.0}}, {1.0}, 2));
    }
};

QTEST_APPLESS_MAIN(TestSides)
#include "test_sides.moc"
