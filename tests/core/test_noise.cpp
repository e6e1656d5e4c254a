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
    void whyThereIsNoFloor();
    void wholeBarsOfDrivenChordsAreNoFloor_data();
    void wholeBarsOfDrivenChordsAreNoFloor();
    void toneIsNoFloor_data();
    void toneIsNoFloor();
    void aNoteBesideMainsIsNoHum_data();
    void aNoteBesideMainsIsNoHum();
    void aDimmerBuzzesHigh();
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

/// Notes of half a second, between them noise that lasts a quarter, digital silence, or nothing.
void TestNoise::whyThereIsNoFloor()
{
    const auto notes = [](double restS, double noise) {
        std::vector<float> x;
        for (int i = 0; i < 8; ++i) {
            test::append(x, test::sine(196.0, 0.2, 48000.0, 0.5));
            test::append(x, test::whiteNoise(noise, std::size_t(restS * 48000.0), unsigned(i + 1)));
        }
        return analyse(x, 48000.0);
    };
    const auto brief = notes(0.25, 3e-4), gated = notes(0.5, 0.0), none = notes(0.0, 3e-4);
    QVERIFY(!brief.floorDbfs && !gated.floorDbfs && !none.floorDbfs);
    QCOMPARE(brief.why, NoRest::Short);
    QVERIFY(std::abs(brief.longestRestS - 0.25) < 0.021);
    QCOMPARE(gated.why, NoRest::Silence);
    QCOMPARE(none.why, NoRest::Sounds);
    QVERIFY(notes(0.5, 3e-4).floorDbfs);
}

/// A guitar through much gain that never rests: nothing of it is a floor or hum. Roots whose second harmonic lies near
/// mains' among them: G, tuned flat, has 98 Hz.
void TestNoise::wholeBarsOfDrivenChordsAreNoFloor_data()
{
    QTest::addColumn<double>("cents");
    QTest::addColumn<double>("gain");
    for (const double cents : {-40.0, 0.0, 7.0, 35.0})
        for (const double gain : {5.0, 20.0, 60.0}) QTest::addRow("%g cents, gain %g", cents, gain) << cents << gain;
}

void TestNoise::wholeBarsOfDrivenChordsAreNoFloor()
{
    QFETCH(double, cents);
    QFETCH(double, gain);
    std::vector<float> x(48000 * 12, 0.0f);
    const double roots[] = {82.4, 98.0, 116.5, 103.8, 92.5, 87.3};
    for (int bar = 0; bar < 6; ++bar) // the hand lifts for 40 ms before the next
        for (const double interval : {1.0, 1.4983, 2.0}) {
            std::vector<float> string(x.size(), 0.0f);
            pluck(string, 48000.0, 2.0 * bar, roots[bar] * interval * std::exp2(cents / 1200.0), 0.1, 9.0);
            for (std::size_t i = 0; i < std::size_t(1.96 * 48000.0); ++i)
                x[std::size_t(bar) * 96000 + i] += string[std::size_t(bar) * 96000 + i];
        }
    test::add(x, test::whiteNoise(2e-5, x.size(), 4));
    for (float& v : x) v = 0.3f * std::tanh(float(gain) * v);
    const auto result = analyse(x, 48000.0);
    QVERIFY2(!result.floorDbfs, qPrintable(QString("floor %1").arg(result.floorDbfs.value_or(0.0))));
    QVERIFY2(!result.hum, qPrintable(QString("hum %1 Hz").arg(result.hum ? result.hum->mainsHz : 0.0)));
}

void TestNoise::toneIsNoFloor_data()
{
    QTest::addColumn<double>("hz");
    for (const double hz : {110.0, 440.0, 1900.0, 2500.0, 5000.0, 9000.0}) QTest::addRow("%g Hz", hz) << hz;
}

void TestNoise::toneIsNoFloor()
{
    QFETCH(double, hz);
    auto x = test::sine(hz, 0.1, 48000.0, 4.0);
    test::add(x, test::whiteNoise(1e-4, x.size(), 2));
    const auto result = analyse(x, 48000.0);
    QVERIFY(!result.floorDbfs && !result.hum);
    QVERIFY(!result.isNobodyPlaying());
}

/// A low note that rings on is no mains series, however near; mains 0.7 Hz off is.
void TestNoise::aNoteBesideMainsIsNoHum_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<bool>("isHum");
    for (const double hz : {48.7, 49.0, 51.0, 51.9, 58.9, 61.2, 61.7}) QTest::addRow("%g Hz", hz) << hz << false;
    for (const double hz : {49.3, 50.0, 50.7, 59.3, 60.7}) QTest::addRow("mains %g Hz", hz) << hz << true;
}

void TestNoise::aNoteBesideMainsIsNoHum()
{
    QFETCH(double, hz);
    QFETCH(bool, isHum);
    auto x = test::whiteNoise(1e-4, 48000 * 3, 6);
    for (int h = 1; h <= 6; ++h) test::add(x, test::sine(h * hz, 0.02 / h, 48000.0, 3.0, 0.9 * h * h));
    TimedSamples rest{0.0, x};
    const auto hum = findHum({rest}, 48000.0, Mains::Auto);
    QCOMPARE(hum.has_value(), isHum);
    if (hum) QVERIFY(std::abs(hum->mainsHz - hz) < 0.01);
}

/// A dimmer's chopped current: odd harmonics far up, as strong as the low ones. The power sum is its closed form.
void TestNoise::aDimmerBuzzesHigh()
{
    auto x = test::whiteNoise(1e-4, 48000 * 4, 6);
    double power = 0.0;
    for (int h = 1; 50.02 * h < 2950.0; h += 2) {
        test::add(x, test::sine(50.02 * h, 0.004, 48000.0, 4.0, 0.7 * h * h));
        power += 0.004 * 0.004;
    }
    const auto hum = findHum({{0.0, x}}, 48000.0, Mains::Auto);
    QVERIFY(hum.has_value());
    const double truth = 10.0 * std::log10(power);
    QVERIFY2(std::abs(hum->levelDbfs - truth) < 0.3, qPrintable(QString("%1, true %2").arg(hum->levelDbfs).arg(truth)));
    QCOMPARE(hum->harmonics.size(), std::size_t(30 - 1));
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
