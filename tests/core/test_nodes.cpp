// The physics of single nodes, each against its source; what every node has to hold stands in test_rig.

#include "core/advice/gate_advice.h"
#include "core/units/calibration.h"
#include "core/units/decibels.h"
#include "support/chain.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0, kPi = std::numbers::pi;

std::vector<float> through(const char* line, std::vector<float> x, double fullScaleV = 1.0, double rate = kRate)
{
    return test::throughChain(line, std::move(x), rate, fullScaleV)[0];
}
using test::responseDb;

/// A tone whose level steps up at `from` and down again at `to` seconds.
std::vector<float> burst(double hz, double soft, double loud, double from, double to, double seconds)
{
    std::vector<float> x(std::size_t(seconds * kRate));
    for (std::size_t i = 0; i < x.size(); ++i) {
        const double t = double(i) / kRate;
        x[i] = float((t >= from && t < to ? loud : soft) * std::sin(2.0 * kPi * hz * t));
    }
    return x;
}

} // namespace

class TestNodes : public QObject {
    Q_OBJECT
private slots:
    void equaliserIsItsPrototypes_data();
    void equaliserIsItsPrototypes();
    void flatEqualiserPassesAll();
    void gateKnowsNoiseFromNotes();
    void gateTimesAreTrue();
    void gateIsNotHeldByAnOffset();
    void gateLetsPicksThrough();
    void gateLooksAhead_data();
    void gateLooksAhead();
    void gateListensToTheDi();
    void gateAdviceTellsNotesFromNoise_data();
    void gateAdviceTellsNotesFromNoise();
    void compressorFollowsItsCurve_data();
    void compressorFollowsItsCurve();
    void compressorTimesAreTrue();
    void compressorBlends();
};

void TestNodes::equaliserIsItsPrototypes_data()
{
    QTest::addColumn<QString>("line");
    QTest::addColumn<int>("kind");
    QTest::newRow("bell") << "eq hz1=800 db1=9 q1=3" << 0;
    QTest::newRow("low shelf") << "eq low_hz=200 low_db=-8" << 1;
    QTest::newRow("high shelf") << "eq high_hz=3000 high_db=7" << 2;
    for (const int slope : {6, 12, 18, 24}) {
        QTest::addRow("low cut %d", slope) << QString("eq low_cut=100 low_slope=%1").arg(slope) << 100 + slope / 6;
        QTest::addRow("high cut %d", slope) << QString("eq high_cut=4000 high_slope=%1").arg(slope) << 200 + slope / 6;
    }
}

// At 192 kHz the bilinear transform bends nothing that matters below 5 kHz: 0.1 dB.
void TestNodes::equaliserIsItsPrototypes()
{
    QFETCH(QString, line);
    QFETCH(int, kind);
    constexpr double kHigh = 192000.0;
    std::vector<float> h(std::size_t(kHigh), 0.0f);
    h[0] = 1.0f;
    h = through(line.toLatin1().constData(), std::move(h), 1.0, kHigh);
    for (const double hz : {30.0, 60.0, 100.0, 200.0, 500.0, 800.0, 1000.0, 3000.0, 4000.0, 5000.0}) {
        using Complex = std::complex<double>;
        const auto s = [&](double of) { return Complex(0.0, hz / of); };
        double wanted = 0.0;
        if (kind == 0) {
            const double a = std::pow(10.0, 9.0 / 40.0);
            const Complex p = s(800.0);
            wanted = 20.0 * std::log10(std::abs((p * p + p * (a / 3.0) + 1.0) / (p * p + p / (a * 3.0) + 1.0)));
        } else if (kind <= 2) {
            const double a = std::pow(10.0, (kind == 1 ? -8.0 : 7.0) / 40.0), w = std::sqrt(2.0 * a);
            const Complex p = kind == 1 ? s(200.0) : 1.0 / s(3000.0); // a high shelf is a low one turned about
            wanted = 20.0 * std::log10(std::abs(a * (p * p + p * w + a) / (a * p * p + p * w + 1.0)));
        } else { // Butterworth: 1 / (1 + (w / wc)^2n)
            const int order = kind % 100;
            const double ratio = kind < 200 ? 100.0 / hz : hz / 4000.0;
            wanted = -10.0 * std::log10(1.0 + std::pow(ratio, 2 * order));
        }
        if (wanted < -70.0) continue;
        const double found = responseDb(h, hz, kHigh);
        QVERIFY2(std::abs(found - wanted) < 0.1,
                 qPrintable(QString("%1 Hz: %2, wanted %3").arg(hz).arg(found).arg(wanted)));
    }
}

void TestNodes::flatEqualiserPassesAll()
{
    const auto x = test::sine(1000.0, 0.3, kRate, 0.2);
    QVERIFY(through("eq", x) == x);
}

// Noise at -60 dBFS is turned down by the depth, a note at -30 passes as it is: full scale is 2 V here.
void TestNodes::gateKnowsNoiseFromNotes()
{
    const double fullScale = 2.0;
    const auto soft = test::sine(300.0, fullScale * 1e-3, kRate, 1.0),
               loud = test::sine(300.0, fullScale * 0.0316, kRate, 1.0);
    const auto level = [](const std::vector<float>& x) {
        return 20.0 * std::log10(test::amplitudeAt({x.end() - 24000, x.end()}, 300.0, kRate));
    };
    const auto shut = through("gate threshold=-45 depth=40", soft, fullScale),
               open = through("gate threshold=-45 depth=40", loud, fullScale);
    QVERIFY(std::abs(level(shut) - level(soft) + 40.0) < 0.1);
    QVERIFY(std::abs(level(open) - level(loud)) < 0.01);
    // Between threshold and threshold less hysteresis it stays what it was.
    const auto fading = through("gate threshold=-40 hysteresis=6 hold=0 depth=40",
                                burst(300.0, 0.0075 * fullScale, 0.1 * fullScale, 0.0, 0.5, 1.0), fullScale);
    QVERIFY(std::abs(level(fading) - 20.0 * std::log10(0.0075 * fullScale)) < 0.1); // -42.5 dBFS: still open
}

// After the tone has gone: hold, then the gain in dB falls exponentially with the release as its time constant.
void TestNodes::gateTimesAreTrue()
{
    // The tone in hand is soft enough to close the gate and loud enough to be measured.
    const auto x = burst(2000.0, 1e-3, 0.5, 0.0, 0.5, 2.0);
    const auto y = through("gate threshold=-20 hysteresis=0 hold=100 release=200 depth=60 attack=0.1", x);
    const auto gainDb = [&](double at) {
        const auto from = std::size_t(at * kRate);
        const std::vector<float> in(x.begin() + long(from), x.begin() + long(from) + 480),
            out(y.begin() + long(from), y.begin() + long(from) + 480);
        return 20.0 * std::log10(test::amplitudeAt(out, 2000.0, kRate) / test::amplitudeAt(in, 2000.0, kRate));
    };
    // The level is a mean square with 5 ms: from -6 to -20 dBFS it falls in 5 ms x ln(10^1.4) = 16 ms.
    const double closes = 0.5 + 0.005 * std::log(0.25 / 0.01) + 0.1;
    QVERIFY(std::abs(gainDb(closes - 0.015)) < 0.1);
    for (const double t : {0.1, 0.2, 0.5}) {
        const double wanted = -60.0 * (1.0 - std::exp(-(t + 0.005) / 0.2)); // a window of 10 ms, seen at its middle
        QVERIFY2(std::abs(gainDb(closes + t) / wanted - 1.0) < 0.02,
                 qPrintable(QString("%1: %2").arg(t).arg(gainDb(closes + t))));
    }
}

// 0.2 of full scale that stands still is an input's fault, no note.
void TestNodes::gateIsNotHeldByAnOffset()
{
    auto x = test::sine(300.0, 1e-4, kRate, 2.0);
    for (float& v : x) v += 0.2f;
    const auto y = through("gate threshold=-50 depth=40 hold=20 release=20", x);
    const float late = y[y.size() - 4800]; // the file's end is a step
    QVERIFY2(std::abs(late) < 0.0025f, qPrintable(QString::number(double(late))));
}

// A pick of 2 kHz that dies within milliseconds, out of silence: its first 3 ms lose less than 3 dB.
void TestNodes::gateLetsPicksThrough()
{
    std::vector<float> x(24000, 0.0f);
    for (std::size_t i = 12000; i < x.size(); ++i)
        x[i] = float(0.4 * std::sin(2.0 * std::numbers::pi * 2000.0 * double(i - 12000) / kRate) *
                     std::exp(-double(i - 12000) / 480.0));
    const auto y = through("gate threshold=-45 depth=60 attack=0.1", x);
    double in = 0.0, out = 0.0;
    for (std::size_t i = 12000; i < 12144; ++i) in += double(x[i]) * double(x[i]), out += double(y[i]) * double(y[i]);
    QVERIFY2(10.0 * std::log10(out / in) > -3.0, qPrintable(QString::number(10.0 * std::log10(out / in))));
}

// Where it renders it has heard a note before it begins: one that is hardly over the threshold, and a slow attack.
void TestNodes::gateLooksAhead_data()
{
    QTest::addColumn<double>("attackMs");
    for (const double ms : {0.1, 1.0, 5.0}) QTest::addRow("%g ms", ms) << ms;
}

void TestNodes::gateLooksAhead()
{
    QFETCH(double, attackMs);
    const auto x = burst(500.0, 1e-4, 0.012, 0.5, 1.0, 1.5); // -41.4 dBFS with this full scale
    const auto y = through(qPrintable(QString("gate threshold=-45 depth=60 hold=20 attack=%1").arg(attackMs)), x);
    double in = 0.0, out = 0.0;
    for (std::size_t i = 24000; i < 24096; ++i) in += double(x[i]) * double(x[i]), out += double(y[i]) * double(y[i]);
    QVERIFY2(10.0 * std::log10(out / in) > -1.5, qPrintable(QString::number(10.0 * std::log10(out / in))));
}

// Behind 40 dB of gain the noise is far over the threshold, and the gate still closes on it, in time with the note.
void TestNodes::gateListensToTheDi()
{
    const auto x = burst(500.0, 1e-3, 0.3, 0.5, 1.0, 1.5);
    const auto y = through("drive drive=40 | gate threshold=-35 depth=50 attack=0.1 hold=10 release=10", x);
    const auto power = [&](double from, double to) {
        double sum = 0.0;
        for (auto i = std::size_t(from * kRate); i < std::size_t(to * kRate); ++i) sum += double(y[i]) * double(y[i]);
        return 10.0 * std::log10(sum / ((to - from) * kRate));
    };
    const auto open = through("drive drive=40", x);
    double without = 0.0;
    for (std::size_t i = 12000; i < 22000; ++i) without += double(open[i]) * double(open[i]) / 10000.0;
    QVERIFY(std::abs(power(0.25, 0.45833) - 10.0 * std::log10(without) + 50.0) < 0.5);
    QVERIFY(power(0.515, 0.95) - power(0.25, 0.45) > 40.0);
}

void TestNodes::gateAdviceTellsNotesFromNoise_data()
{
    QTest::addColumn<double>("noise"); // dBFS
    QTest::addColumn<double>("soft");
    QTest::addColumn<double>("hysteresis");
    QTest::newRow("a quiet room") << -70.0 << -33.0 << 4.0;
    QTest::newRow("a loud one") << -56.0 << -30.0 << 4.0;
    QTest::newRow("no room for so much hysteresis") << -48.0 << -32.0 << 14.0;
}

// Noise of a known level, loud notes and soft ones of a known level: the advice says both, and a gate at its threshold
// is shut on the noise and open on every note.
void TestNodes::gateAdviceTellsNotesFromNoise()
{
    QFETCH(double, noise);
    QFETCH(double, soft);
    QFETCH(double, hysteresis);
    // AES17: a sine of peak 1 reads 0 dBFS, noise of RMS 0.7071 as well.
    auto x = test::whiteNoise(std::pow(10.0, noise / 20.0) / std::numbers::sqrt2, std::size_t(14.0 * kRate));
    std::vector<std::size_t> starts;
    for (int note = 0; note < 16; ++note) {
        const double peak = std::pow(10.0, (note % 4 == 3 ? soft : -14.0) / 20.0);
        starts.push_back(std::size_t((1.5 + 0.7 * note) * kRate));
        for (std::size_t i = 0; i < std::size_t(0.5 * kRate); ++i)
            x[starts.back() + i] += float(peak * std::sin(2.0 * kPi * 220.0 * double(i) / kRate));
    }
    QTemporaryDir dir;
    const auto file = test::writeWav(dir, "notes.wav", {x}, 48000, SampleFormat::Float32);
    MeasureOptions options;
    options.keepPicture = true;
    const auto measured = measureFile(file, options).value();
    const auto advice = gateAdvice(measured.channels[0], hysteresis);
    QVERIFY(advice.has_value());
    QVERIFY2(std::abs(advice->noiseDbfs - noise) < 1.0, qPrintable(QString::number(advice->noiseDbfs)));
    QVERIFY2(std::abs(advice->softestDbfs - soft) < 1.5, qPrintable(QString::number(advice->softestDbfs)));
    const Finding found = gateFinding(*advice, advice->thresholdDbfs.value_or(-50.0), "DI");
    if (hysteresis > 10.0) {
        QVERIFY(!advice->thresholdDbfs);
        QCOMPARE(found.severity, Severity::Fix);
        return;
    }
    QVERIFY(advice->thresholdDbfs.has_value());
    QCOMPARE(found.severity, Severity::Note);
    QCOMPARE(gateFinding(*advice, soft + 6.0, "DI").severity, Severity::Fix);
    QCOMPARE(gateFinding(*advice, noise - 6.0, "DI").severity, Severity::Fix);
    const auto y =
        through(qPrintable(QString("gate threshold=%1 depth=60 hold=20 release=20").arg(*advice->thresholdDbfs)), x);
    const auto gainDb = [&](std::size_t from) {
        double in = 0.0, out = 0.0;
        for (std::size_t i = from; i < from + 4800; ++i)
            in += double(x[i]) * double(x[i]), out += double(y[i]) * double(y[i]);
        return 10.0 * std::log10(out / in);
    };
    for (const std::size_t start : starts) QVERIFY(gainDb(start + 4800) > -0.5);
    QVERIFY(gainDb(48000) < -55.0);
}

void TestNodes::compressorFollowsItsCurve_data()
{
    QTest::addColumn<double>("over"); // dB over the threshold
    QTest::addColumn<double>("down"); // dB that it is turned down by: ratio 4, knee 10
    QTest::newRow("below the knee") << -8.0 << 0.0;
    QTest::newRow("in the knee, below") << -2.0 << 0.75 * 3.0 * 3.0 / 20.0;
    QTest::newRow("at the threshold") << 0.0 << 0.75 * 5.0 * 5.0 / 20.0;
    QTest::newRow("in the knee, above") << 3.0 << 0.75 * 8.0 * 8.0 / 20.0;
    QTest::newRow("above") << 12.0 << 0.75 * 12.0;
    QTest::newRow("far above") << 24.0 << 0.75 * 24.0;
}

void TestNodes::compressorFollowsItsCurve()
{
    QFETCH(double, over);
    QFETCH(double, down);
    // 12 kHz at 48 kHz, from a quarter on: every sample stands at a peak or at zero, and a slow release holds it.
    const double peak = 0.7746 * std::numbers::sqrt2 * std::pow(10.0, (-30.0 + over) / 20.0);
    const auto x = test::sine(12000.0, peak, kRate, 2.0);
    const auto y = through("compressor threshold=-30 ratio=4 knee=10 attack=0.1 release=3000 gain=0", x);
    const double found = 20.0 * std::log10(test::amplitudeAt({x.end() - 4800, x.end()}, 12000.0, kRate) /
                                           test::amplitudeAt({y.end() - 4800, y.end()}, 12000.0, kRate));
    QVERIFY2(std::abs(found - down) < 0.05, qPrintable(QString::number(found)));
}

// On a constant voltage nothing ripples: the gain in dB follows an exponential of the attack, and, let go, two of them.
void TestNodes::compressorTimesAreTrue()
{
    std::vector<float> x(std::size_t(2.0 * kRate), 0.001f);
    std::fill(x.begin() + 24000, x.begin() + 72000, 1.0f);
    const auto y = through("compressor threshold=-20 ratio=4 knee=0 attack=20 release=200 gain=0", x);
    const auto gainDb = [&](std::size_t i) { return 20.0 * std::log10(double(y[i]) / double(x[i])); };
    const double whole = 0.75 * (20.0 * std::log10(1.0 / (0.7746 * std::numbers::sqrt2)) + 20.0);
    for (const double t : {0.01, 0.02, 0.05}) {
        const double wanted = -whole * (1.0 - std::exp(-t / 0.02));
        QVERIFY2(std::abs(gainDb(24000 + std::size_t(t * kRate)) / wanted - 1.0) < 0.02,
                 qPrintable(QString::number(t)));
    }
    for (const double t : {0.1, 0.2, 0.4}) { // the release, smoothed by the attack: two first-order parts in a row
        const double a = 0.02, r = 0.2, wanted = -whole * (r * std::exp(-t / r) - a * std::exp(-t / a)) / (r - a);
        QVERIFY2(std::abs(gainDb(72000 + std::size_t(t * kRate)) / wanted - 1.0) < 0.02,
                 qPrintable(QString::number(t)));
    }
}

void TestNodes::compressorBlends()
{
    const auto x = test::sine(300.0, 0.5, kRate, 0.5);
    const auto dry = through("compressor threshold=-40 blend=0 gain=20", x);
    QVERIFY(dry == x);
    const auto half = through("compressor threshold=-40 blend=0.5 gain=0", x),
               wet = through("compressor threshold=-40 blend=1 gain=0", x);
    for (std::size_t i = 0; i < x.size(); i += 97) QVERIFY(std::abs(half[i] - 0.5f * (x[i] + wet[i])) < 1e-6f);
}

QTEST_APPLESS_MAIN(TestNodes)
#include "test_nodes.moc"
