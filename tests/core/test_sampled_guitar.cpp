// What is claimed of noise and hum, repeated on a sampled guitar: notes that swing out by themselves, damped between
// phrases, with known noise and a known mains series added.

#include "core/measure/noise.h"
#include "support/sampled_guitar.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr int kRate = 48000;
constexpr double kSeconds = 12.0;

NoiseResult analyse(const std::vector<float>& x)
{
    HopTrack track(kRate);
    track.push(x);
    track.finish();
    const auto result = analyseNoise(
        track,
        [&](std::int64_t s, std::int64_t n) -> Result<std::vector<float>> {
            return std::vector<float>(x.begin() + s, x.begin() + std::min<std::int64_t>(s + n, std::int64_t(x.size())));
        },
        Mains::Auto);
    Q_ASSERT(result);
    return *result;
}

/// Two phrases of four seconds, with a second and a half before, between and behind; the hand rests on the strings.
std::vector<float> phrases(const std::vector<int>& notes, test::SampledGuitar guitar)
{
    std::vector<test::SampledNote> played;
    for (const double start : {1.5, 6.5})
        for (int n = 0; n < 8; ++n)
            played.push_back({start + 0.4 * n, 0.38, notes[std::size_t(n) % notes.size()], 90 + 3 * n});
    auto x = test::playSampled(played, guitar, kRate, kSeconds, 0.3);
    for (std::size_t i = 0; i < x.size(); ++i) {
        const double t = double(i) / kRate;
        const bool rest = t < 1.5 || (t > 5.0 && t < 6.5) || t > 10.0;
        if (rest) x[i] = 0.0f;
    }
    return x;
}

void addNoise(std::vector<float>& x, double dbfs, unsigned seed)
{
    test::add(x, test::whiteNoise(std::pow(10.0, dbfs / 20.0) / std::numbers::sqrt2, x.size(), seed));
}

/// Harmonics 1 to 6 falling by 4 dB each; their power sum is `dbfs`.
void addHum(std::vector<float>& x, double hz, double dbfs)
{
    double power = 0.0;
    for (int h = 0; h < 6; ++h) power += std::pow(10.0, -0.4 * h);
    for (int h = 0; h < 6; ++h)
        test::add(x, test::sine(hz * (h + 1), std::pow(10.0, dbfs / 20.0) * std::pow(10.0, -0.2 * h) / std::sqrt(power),
                                kRate, kSeconds, 0.7 * h));
}

} // namespace

class TestSampledGuitar : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void floor_data();
    void floor();
    void hum_data();
    void hum();
    void lowNotesAreNoHum_data();
    void lowNotesAreNoHum();
};

void TestSampledGuitar::initTestCase()
{
    if (test::playSampled({{0.1, 0.3, 52, 100}}, test::SampledGuitar::Clean, kRate, 1.0, 0.3).empty())
        QSKIP("no sampled guitar here: install fluidsynth and a General MIDI sound font");
}

void TestSampledGuitar::floor_data()
{
    QTest::addColumn<int>("guitar");
    QTest::addColumn<double>("noise");
    for (const double noise : {-50.0, -70.0, -90.0}) {
        QTest::addRow("clean, %g dBFS", noise) << int(test::SampledGuitar::Clean) << noise;
        QTest::addRow("overdriven, %g dBFS", noise) << int(test::SampledGuitar::Overdriven) << noise;
    }
}

void TestSampledGuitar::floor()
{
    QFETCH(int, guitar);
    QFETCH(double, noise);
    auto x = phrases({40, 45, 47, 52, 55}, test::SampledGuitar(guitar));
    double playing = 0.0, frames = 0.0;
    for (const float v : x)
        if (v != 0.0f) playing += double(v) * double(v), frames += 1.0;
    addNoise(x, noise, 3);
    const auto result = analyse(x);
    QVERIFY(result.floorDbfs.has_value());
    QVERIFY2(std::abs(*result.floorDbfs - noise) < 0.2, qPrintable(QString::number(*result.floorDbfs)));
    QVERIFY(!result.hum);
    // SNR within 1.5 dB (goals): the level of all that sounds; where playing is told from rest moves it by less.
    const double snr = 10.0 * std::log10(2.0 * playing / frames) - noise;
    QVERIFY2(std::abs(*result.snrDb - snr) < 1.5, qPrintable(QString("%1, true %2").arg(*result.snrDb).arg(snr)));
}

void TestSampledGuitar::hum_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("level");
    QTest::addColumn<double>("noise");
    QTest::newRow("50, loud") << 50.03 << -50.0 << -80.0;
    QTest::newRow("50, soft") << 49.96 << -70.0 << -80.0;
    QTest::newRow("60, loud") << 59.97 << -55.0 << -75.0;
    QTest::newRow("60, off by half") << 60.4 << -60.0 << -85.0;
}

void TestSampledGuitar::hum()
{
    QFETCH(double, hz);
    QFETCH(double, level);
    QFETCH(double, noise);
    // Notes at mains frequencies and their multiples, so that a wrong look would take them for hum: G1, B1, B2.
    auto x = phrases({31, 35, 47, 43}, test::SampledGuitar::Clean);
    addNoise(x, noise, 4);
    addHum(x, hz, level);
    const auto result = analyse(x);
    QVERIFY(result.hum.has_value());
    QVERIFY2(std::abs(result.hum->mainsHz - hz) < 0.01, qPrintable(QString::number(result.hum->mainsHz, 'f', 4)));
    QVERIFY2(std::abs(result.hum->levelDbfs - level) < 0.5, qPrintable(QString::number(result.hum->levelDbfs)));
    const double floor = 10.0 * std::log10(std::pow(10.0, level / 10.0) + std::pow(10.0, noise / 10.0));
    QVERIFY(std::abs(*result.floorDbfs - floor) < 0.3); // hum included, as the contract says
}

void TestSampledGuitar::lowNotesAreNoHum_data()
{
    QTest::addColumn<int>("midi");
    QTest::newRow("G1, 49.0 Hz") << 31;
    QTest::newRow("A#1, 58.3 Hz") << 34;
    QTest::newRow("B1, 61.7 Hz") << 35;
    QTest::newRow("G2, 98.0 Hz") << 43;
    QTest::newRow("B2, 123.5 Hz") << 47;
}

void TestSampledGuitar::lowNotesAreNoHum()
{
    QFETCH(int, midi);
    for (const auto guitar : {test::SampledGuitar::Clean, test::SampledGuitar::Overdriven}) {
        // Let ring to the end, so that the tail of the note reaches into what could be taken for a rest.
        auto x = test::playSampled({{1.0, 4.0, midi, 110}, {6.0, 4.0, midi, 60}}, guitar, kRate, kSeconds, 0.3);
        addNoise(x, -85.0, 5);
        const auto result = analyse(x);
        QVERIFY2(!result.hum,
                 qPrintable(result.hum ? QString("%1 Hz, %2 dBFS").arg(result.hum->mainsHz).arg(result.hum->levelDbfs)
                                       : QString()));
    }
}

QTEST_GUILESS_MAIN(TestSampledGuitar)
#include "test_sampled_guitar.moc"
