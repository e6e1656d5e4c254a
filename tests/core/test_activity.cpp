#include "core/measure/activity.h"
#include "core/measure/measure_file.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;

HopTrack trackOf(const std::vector<float>& x, double rate = kRate)
{
    HopTrack track(rate);
    track.push(x);
    track.finish();
    return track;
}

/// Noise at levels of dBFS RMS (plain), each for some seconds.
std::vector<float> steps(const std::vector<std::pair<double, double>>& parts, double dc = 0.0)
{
    std::vector<float> x;
    unsigned seed = 1;
    for (const auto& [seconds, db] : parts)
        test::append(x, test::whiteNoise(std::pow(10.0, db / 20.0), std::size_t(seconds * kRate), seed++));
    for (float& v : x) v += float(dc);
    return x;
}

double secondsOf(const std::vector<bool>& playing) { return 0.01 * double(std::ranges::count(playing, true)); }

} // namespace

class TestActivity : public QObject {
    Q_OBJECT
private slots:
    void hopsAddUp_data();
    void hopsAddUp();
    void restsAreWhereTheyWerePut_data();
    void restsAreWhereTheyWerePut();
    void shortRestsAreNone();
    void dyingNotesAreNoRest_data();
    void dyingNotesAreNoRest();
    void digitalSilenceIsNoRest();
    void playingIsWhatStandsOut();
    void steadyNoiseIsNobodyPlaying();
    void typicalIsTheLevelOfTheNotes_data();
    void typicalIsTheLevelOfTheNotes();
    void typicalOfAPerformance();
};

void TestActivity::hopsAddUp_data()
{
    QTest::addColumn<double>("rate");
    QTest::newRow("8 kHz") << 8000.0;
    QTest::newRow("11.025 kHz") << 11025.0; // hops of 110.25 frames
    QTest::newRow("44.1 kHz") << 44100.0;
    QTest::newRow("192 kHz") << 192000.0;
}

void TestActivity::hopsAddUp()
{
    QFETCH(double, rate);
    const auto x = test::whiteNoise(0.1, std::size_t(rate * 1.007));
    HopTrack parts(rate);
    for (std::size_t at = 0; at < x.size(); at += 333)
        parts.push(std::span(x).subspan(at, std::min<std::size_t>(333, x.size() - at)));
    parts.finish();
    const HopTrack whole = trackOf(x, rate);
    QCOMPARE(whole.hops(), std::size_t(101)); // the last holds 7 of 10 ms
    QCOMPARE(parts.hops(), whole.hops());
    const auto powers = whole.powers(), other = parts.powers();
    for (std::size_t i = 0; i < powers.size(); ++i) QVERIFY(std::abs(powers[i] - other[i]) < 1e-12);
    double mean = 0.0;
    for (const double p : powers) mean += p / double(powers.size());
    QVERIFY(std::abs(powerToDb(mean / 0.01)) <
            0.3); // 8,056 samples at least: sd of a power 0.07 dB, and the windowed mean
}

void TestActivity::restsAreWhereTheyWerePut_data()
{
    QTest::addColumn<double>("floor");
    QTest::addColumn<double>("dc");
    QTest::newRow("quiet") << -90.0 << 0.0;
    QTest::newRow("noisy") << -50.0 << 0.0;
    QTest::newRow("off centre") << -70.0 << 0.05;
}

void TestActivity::restsAreWhereTheyWerePut()
{
    QFETCH(double, floor);
    QFETCH(double, dc);
    const auto track = trackOf(steps({{1.0, floor}, {2.0, -20.0}, {0.5, floor}, {1.0, -24.0}, {0.7, floor}}, dc));
    const auto rests = findRests(track.powers());
    QCOMPARE(rests.size(), std::size_t(3));
    const double wanted[][2] = {{0.0, 1.0}, {3.0, 3.5}, {4.5, 5.2}};
    for (std::size_t i = 0; i < 3; ++i) {
        QVERIFY(std::abs(double(rests[i].first) * 0.01 - wanted[i][0]) <= 0.06);
        QVERIFY(std::abs(double(rests[i].first + rests[i].count) * 0.01 - wanted[i][1]) <= 0.06);
    }
}

void TestActivity::shortRestsAreNone()
{
    const auto track = trackOf(steps({{1.0, -20.0}, {0.2, -80.0}, {1.0, -20.0}}));
    for (const Stretch& s : findRests(track.powers()))
        QVERIFY(double(s.count) * 0.01 > 0.9); // only the steady noise itself
}

void TestActivity::dyingNotesAreNoRest_data()
{
    QTest::addColumn<double>("dbPerSecond");
    QTest::newRow("3 dB/s") << 3.0;
    QTest::newRow("8 dB/s") << 8.0;
    QTest::newRow("30 dB/s") << 30.0;
}

void TestActivity::dyingNotesAreNoRest()
{
    QFETCH(double, dbPerSecond);
    auto x = test::sine(110.0, 0.5, kRate, 6.0);
    for (std::size_t i = 0; i < x.size(); ++i) x[i] *= float(std::pow(10.0, -dbPerSecond * double(i) / kRate / 20.0));
    QVERIFY(findRests(trackOf(x).powers()).empty());
}

void TestActivity::digitalSilenceIsNoRest()
{
    auto x = test::whiteNoise(0.1, 48000);
    x.resize(96000, 0.0f);
    const auto rests = findRests(trackOf(x).powers());
    for (const Stretch& s : rests) QVERIFY(s.first + s.count <= 105); // 50 ms levels may reach over the border
}

void TestActivity::playingIsWhatStandsOut()
{
    const auto x = steps({{1.0, -80.0}, {2.0, -20.0}, {1.0, -80.0}, {1.0, -42.0}});
    const auto powers = trackOf(x).powers();
    const auto playing = findPlaying(powers, std::pow(10.0, -8.0));
    QVERIFY(std::abs(secondsOf(playing) - 3.0) < 0.12); // soft playing, 22 dB down, counts too
    QVERIFY(!playing[50] && playing[200] && !playing[350] && playing[450]);
    const auto noFloor = findPlaying(powers, std::nullopt); // 30 dB under the loud part, without a floor to go by
    QVERIFY(!noFloor[50] && noFloor[200] && noFloor[450]);
    QVERIFY(findPlaying({}, std::nullopt).empty());
    QCOMPARE(secondsOf(findPlaying(std::vector<double>(100, 0.0), std::nullopt)), 0.0);
}

void TestActivity::steadyNoiseIsNobodyPlaying()
{
    const auto powers = trackOf(steps({{2.0, -40.0}})).powers();
    QCOMPARE(secondsOf(findPlaying(powers, std::pow(10.0, -4.0))), 0.0);
    QVERIFY(secondsOf(findPlaying(powers, std::nullopt)) > 1.9); // no floor: what sounds steadily is a note
}

void TestActivity::typicalIsTheLevelOfTheNotes_data()
{
    QTest::addColumn<double>("level");
    QTest::addColumn<double>("rest");
    QTest::newRow("half of it rests") << -18.0 << 2.0;
    QTest::newRow("mostly rests") << -23.5 << 8.0;
    QTest::newRow("hot") << -6.0 << 1.0;
}

void TestActivity::typicalIsTheLevelOfTheNotes()
{
    QFETCH(double, level);
    QFETCH(double, rest);
    // Steady tones of 2 s: a VU meter stands at their level, and rests, however long, must not pull the figure down.
    QTemporaryDir dir;
    std::vector<float> x;
    for (int i = 0; i < 3; ++i) {
        test::append(x, test::sine(330.0, std::pow(10.0, level / 20.0), kRate, 2.0));
        test::append(x, test::whiteNoise(1e-5, std::size_t(rest * kRate), unsigned(i)));
    }
    const auto m = measureFile(test::writeWav(dir, "tones.wav", {x}, 48000), {});
    QVERIFY(m && m->channels[0].vuTypical);
    QVERIFY(std::abs(*m->channels[0].vuTypical - (level + 18.0)) < 0.1); // of 200 readings a tone 30 rise
}

void TestActivity::typicalOfAPerformance()
{
    // A simulated performance turned up by a known gain: the figure follows exactly, peak, floor and advice with it.
    QTemporaryDir dir;
    std::vector<float> x(std::size_t(kRate * 8.0), 0.0f);
    for (int n = 0; n < 14; ++n) {
        const auto start = std::size_t((0.8 + 0.5 * n) * kRate);
        for (std::size_t i = 0; i < std::size_t(0.45 * kRate) && start + i < x.size(); ++i) {
            const double t = double(i) / kRate;
            x[start + i] += float(0.05 * std::exp(-3.0 * t) * std::sin(2.0 * std::numbers::pi * (110.0 + 5.0 * n) * t));
        }
    }
    test::add(x, test::whiteNoise(2e-5, x.size()));
    auto louder = x;
    for (float& v : louder) v *= 4.0f; // +12.04 dB
    const auto a = measureFile(test::writeWav(dir, "a.wav", {x}, 48000), {}),
               b = measureFile(test::writeWav(dir, "b.wav", {louder}, 48000), {});
    QVERIFY(a && b);
    const double moved = 20.0 * std::log10(4.0);
    const auto &ca = a->channels[0], &cb = b->channels[0];
    QVERIFY(std::abs(*cb.vuTypical - *ca.vuTypical - moved) < 1e-3);
    QVERIFY(std::abs(*cb.truePeakDbtp - *ca.truePeakDbtp - moved) < 1e-3);
    QVERIFY(std::abs(*cb.noise.floorDbfs - *ca.noise.floorDbfs - moved) < 1e-3);
    QVERIFY(std::abs(*cb.noise.snrDb - *ca.noise.snrDb) < 1e-3);
    QVERIFY(std::abs(*a->advice.gainChangeDb + *ca.vuTypical) < 1e-9 || a->advice.heldByHeadroom);
}

QTEST_APPLESS_MAIN(TestActivity)
#include "test_activity.moc"
