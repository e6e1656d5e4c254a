#include "core/measure/noise.h"
#include "core/measure/rest_spectra.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;

namespace {

/// A plucked tone: harmonics that die away.
void pluck(std::vector<float>& x, double rate, double atS, double hz, double amplitude, double t60)
{
    const auto start = std::size_t(atS * rate);
    for (std::size_t i = start; i < x.size(); ++i) {
        const double t = double(i - start) / rate;
        double y = 0.0;
        for (int h = 1; h < 8; ++h)
            y += std::sin(2.0 * std::numbers::pi * hz * h * t) / h * std::exp(-6.9 * t * h / t60);
        x[i] += float(amplitude * y);
    }
}

NoiseResult analyse(const std::vector<float>& x, double rate)
{
    HopTrack track(rate);
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

/// Two phrases of damped notes with rests before, between and behind, noise and hum added.
std::vector<float> phrases(double rate, double noiseDbfs, double humDbfs, double mainsHz, unsigned seed)
{
    std::vector<float> x(std::size_t(rate * 7.0), 0.0f);
    for (const double start : {1.0, 4.0})
        for (int n = 0; n < 5; ++n) pluck(x, rate, start + 0.3 * n, 82.4 * std::pow(2.0, n * 3 / 12.0), 0.2, 2.0);
    for (std::size_t i = 0; i < x.size(); ++i) { // the hand damps the strings
        const double t = double(i) / rate;
        const bool rest = t < 1.0 || (t > 2.6 && t < 4.0) || t > 5.6;
        if (rest) x[i] = 0.0f;
    }
    test::add(x, test::whiteNoise(std::pow(10.0, noiseDbfs / 20.0) / std::numbers::sqrt2, x.size(), seed));
    if (humDbfs > -150.0) {
        const double amplitudes[] = {0.8, 0.0, 0.5, 0.0, 0.33};
        for (int h = 0; h < 5; ++h)
            test::add(x, test::sine(mainsHz * (h + 1), std::pow(10.0, humDbfs / 20.0) * amplitudes[h] / 0.9995, rate,
                                    7.0, h * 1.1));
    }
    return x;
}

} // namespace

class TestNoise : public QObject {
    Q_OBJECT
private slots:
    void spectraOfRestAndPlaying_data();
    void spectraOfRestAndPlaying();
    void floorInRests_data();
    void floorInRests();
    void humIsMeasured_data();
    void humIsMeasured();
    void noHumInPlainNoise();
    void dyingNoteIsNoRest_data();
    void dyingNoteIsNoRest();
    void steadyToneIsNoRest();
    void digitalSilenceIsNoRest();
    void noiseAloneHasAFloor();
    void dcDoesNotCount();
    void playingIsFound();
};

void TestNoise::floorInRests_data()
{
    QTest::addColumn<double>("rate");
    QTest::addColumn<double>("noise");
    for (const double rate : {44100.0, 48000.0, 96000.0})
        for (const double noise : {-50.0, -70.0, -90.0}) QTest::addRow("%g Hz, %g dBFS", rate, noise) << rate << noise;
}

void TestNoise::floorInRests()
{
    QFETCH(double, rate);
    QFETCH(double, noise);
    const auto result = analyse(phrases(rate, noise, -200.0, 50.0, 5), rate);
    QVERIFY(result.floorDbfs.has_value());
    QVERIFY2(std::abs(*result.floorDbfs - noise) < 0.2,
             qPrintable(QString::number(*result.floorDbfs))); // goals: 0.5, wanted 0.2
    QVERIFY(!result.hum);
}

void TestNoise::humIsMeasured_data()
{
    QTest::addColumn<double>("noise");
    QTest::addColumn<double>("hum");
    QTest::addColumn<double>("hz");
    QTest::newRow("50 Hz, loud") << -80.0 << -50.0 << 49.97;
    QTest::newRow("50 Hz, soft") << -80.0 << -75.0 << 50.04;
    QTest::newRow("60 Hz") << -75.0 << -60.0 << 60.02;
    QTest::newRow("60 Hz, off nominal") << -85.0 << -66.0 << 59.6;
}

void TestNoise::humIsMeasured()
{
    QFETCH(double, noise);
    QFETCH(double, hum);
    QFETCH(double, hz);
    const auto result = analyse(phrases(48000.0, noise, hum, hz, 6), 48000.0);
    QVERIFY(result.hum.has_value());
    QVERIFY2(std::abs(result.hum->mainsHz - hz) < 0.01, qPrintable(QString::number(result.hum->mainsHz, 'f', 4)));
    QVERIFY2(std::abs(result.hum->levelDbfs - hum) < 0.5, qPrintable(QString::number(result.hum->levelDbfs)));
    QVERIFY(result.hum->harmonics.size() >= 2);
}

void TestNoise::noHumInPlainNoise()
{
    int claimed = 0;
    for (unsigned seed = 1; seed <= 20; ++seed)
        claimed += analyse(test::whiteNoise(1e-3, 48000 * 3, seed), 48000.0).hum.has_value();
    QCOMPARE(claimed, 0);
}

void TestNoise::dyingNoteIsNoRest_data()
{
    QTest::addColumn<double>("t60");
    for (const double t60 : {4.0, 8.0, 20.0, 60.0}) QTest::addRow("T60 %g s", t60) << t60;
}

void TestNoise::dyingNoteIsNoRest()
{
    QFETCH(double, t60);
    std::vector<float> x(48000 * 5, 0.0f);
    pluck(x, 48000.0, 0.0, 110.0, 0.3, t60);
    test::add(x, test::whiteNoise(1e-6, x.size()));
    QVERIFY(!analyse(x, 48000.0).floorDbfs);
}

void TestNoise::steadyToneIsNoRest() { QVERIFY(!analyse(test::sine(220.0, 0.01, 48000.0, 3.0), 48000.0).floorDbfs); }

void TestNoise::digitalSilenceIsNoRest()
{
    std::vector<float> x(48000, 0.0f);
    QVERIFY(!analyse(x, 48000.0).floorDbfs);
    test::append(x, test::sine(220.0, 0.1, 48000.0, 1.0));
    QVERIFY(!analyse(x, 48000.0).floorDbfs);
}

void TestNoise::noiseAloneHasAFloor()
{
    const auto result = analyse(test::whiteNoise(0.01 / std::numbers::sqrt2, 48000 * 3), 48000.0);
    QVERIFY(std::abs(*result.floorDbfs + 40.0) < 0.1);
    QVERIFY(!result.snrDb); // nobody plays
}

void TestNoise::dcDoesNotCount()
{
    auto x = phrases(48000.0, -70.0, -200.0, 50.0, 7);
    for (float& v : x) v += 0.05f;
    QVERIFY(std::abs(*analyse(x, 48000.0).floorDbfs + 70.0) < 0.2);
}

void TestNoise::playingIsFound()
{
    const auto result = analyse(phrases(48000.0, -70.0, -200.0, 50.0, 8), 48000.0);
    QVERIFY(!result.playing[50] && result.playing[120] && !result.playing[330] && result.playing[430] &&
            !result.playing[650]);
}

void TestNoise::spectraOfRestAndPlaying_data()
{
    QTest::addColumn<double>("rate");
    for (const double rate : {8000.0, 44100.0, 48000.0, 96000.0, 192000.0}) QTest::addRow("%g Hz", rate) << rate;
}

/// White noise alone, then a tone over it: a band of the noise has its share of the power, the band of the tone has the
/// tone's level. Closed forms.
void TestNoise::spectraOfRestAndPlaying()
{
    QFETCH(double, rate);
    constexpr double kToneDbfs = -20.0, kNoise = 1e-3; // uniform from -a to a has a mean square of a^2 / 3
    auto x = test::whiteNoise(kNoise, std::size_t(8.0 * rate), 3);
    const auto tone = test::sine(440.0, std::pow(10.0, kToneDbfs / 20.0), rate, 4.0);
    for (std::size_t i = 0; i < tone.size(); ++i) x[std::size_t(2.0 * rate) + i] += tone[i];
    HopTrack track(rate);
    track.push(x);
    track.finish();
    const SampleSource source = [&](std::int64_t s, std::int64_t n) -> Result<std::vector<float>> {
        return std::vector<float>(x.begin() + s, x.begin() + std::min<std::int64_t>(s + n, std::int64_t(x.size())));
    };
    const auto noise = analyseNoise(track, source, Mains::Auto);
    QVERIFY(bool(noise));
    const auto spectra = restSpectra(track, *noise, source);
    QVERIFY(spectra && !spectra->hz.empty());
    QCOMPARE(spectra->restDbfs.size(), spectra->hz.size());
    QCOMPARE(spectra->playDbfs.size(), spectra->hz.size());
    double meanSquare = 0.0;
    for (std::size_t i = 0; i < std::size_t(rate); ++i) meanSquare += double(x[i]) * double(x[i]) / rate;
    double off = 0.0, count = 0.0;
    for (std::size_t b = 0; b < spectra->hz.size(); ++b) {
        const double hz = spectra->hz[b];
        if (hz < 300.0) continue; // where few bins make a band, noise is a matter of chance
        const double share = hz * (std::exp2(1.0 / 24.0) - std::exp2(-1.0 / 24.0)) / (0.5 * rate);
        off += spectra->restDbfs[b] - 10.0 * std::log10(2.0 * meanSquare * share), ++count;
    }
    QVERIFY2(std::abs(off / count) < 0.3, qPrintable(QString::number(off / count))); // dB; scatter of some 100 bands
    const auto loudest = std::ranges::max_element(spectra->playDbfs);
    const double at = spectra->hz[std::size_t(loudest - spectra->playDbfs.begin())];
    QVERIFY(std::abs(12.0 * std::log2(at / 440.0)) <= 0.5); // the band that holds it
    QVERIFY2(std::abs(*loudest - kToneDbfs) < 0.6,
             qPrintable(QString::number(*loudest))); // a line may lean over an edge
}

QTEST_APPLESS_MAIN(TestNoise)
#include "test_noise.moc"
