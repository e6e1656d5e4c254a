#include "core/sim/performance.h"
#include "core/sim/plucked_string.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;

class TestSim : public QObject {
    Q_OBJECT
private slots:
    void stringIsInTune_data();
    void stringIsInTune();
    void sameSeedSameSamples();
    void latenessIsPlayed();
    void interfaceClipsAndHums();
};

void TestSim::stringIsInTune_data()
{
    QTest::addColumn<double>("hz");
    for (const double hz : {73.42, 82.41, 146.83, 329.63, 659.26}) QTest::addRow("%g", hz) << hz;
}

void TestSim::stringIsInTune()
{
    QFETCH(double, hz);
    PluckedNote note;
    note.hz = hz;
    note.seconds = 2.0;
    const auto x = pluck(note, 48000.0);
    // The frequency near hz with most power over a Hann window, by a fine search.
    double best = 0.0, most = 0.0;
    for (double cents = -20.0; cents <= 20.0; cents += 0.25) {
        const double f = hz * std::pow(2.0, cents / 1200.0);
        double re = 0.0, im = 0.0;
        for (std::size_t i = 4800; i < 4800 + 72000; ++i) {
            const double w = 0.5 - 0.5 * std::cos(2.0 * std::numbers::pi * double(i - 4800) / 72000.0),
                         p = 2.0 * std::numbers::pi * f * double(i) / 48000.0;
            re += w * double(x[i]) * std::cos(p);
            im += w * double(x[i]) * std::sin(p);
        }
        if (re * re + im * im > most) most = re * re + im * im, best = cents;
    }
    QVERIFY2(std::abs(best) <= 1.0, qPrintable(QString::number(best))); // cents
}

void TestSim::sameSeedSameSamples()
{
    const std::vector<WrittenNote> part{{0.0, 1.0, {{0, 0}, {1, 2}}, 0.8, false}, {1.0, 1.0, {{0, 3}}, 0.6, true}};
    PlayingStyle a, b;
    b.seed = 2;
    const auto one = perform(part, 120.0, standardTuning(), a, 48000.0),
               two = perform(part, 120.0, standardTuning(), a, 48000.0);
    QVERIFY(one.volts == two.volts);
    QVERIFY(one.volts != perform(part, 120.0, standardTuning(), b, 48000.0).volts);
    QCOMPARE(one.onsetS.size(), part.size());
}

void TestSim::latenessIsPlayed()
{
    std::vector<WrittenNote> part;
    for (int i = 0; i < 16; ++i) part.push_back({double(i), 0.9, {{0, 0}}, 0.8, false});
    PlayingStyle style;
    style.timingSdMs = 0.0;
    style.lateFromBeat = 8.0, style.lateToBeat = 12.0, style.lateMs = 25.0;
    const auto p = perform(part, 120.0, standardTuning(), style, 48000.0);
    for (int i = 0; i < 16; ++i) {
        const double expected = style.leadInS + i * 0.5 + (i >= 8 && i < 12 ? 0.025 : 0.0);
        QVERIFY(std::abs(p.onsetS[std::size_t(i)] - expected) < 1e-9);
    }
}

void TestSim::interfaceClipsAndHums()
{
    const auto volts = test::sine(1000.0, 10.0, 48000.0, 0.1);
    const auto clipped = digitise(volts, {}, 48000.0);
    QCOMPARE(*std::ranges::max_element(clipped), 1.0f);
    SimulatedInterface interface;
    interface.humDbfs = -50.0;
    interface.noiseDbfs = -120.0;
    const auto hum = digitise(std::vector<float>(48000 * 2, 0.0f), interface, 48000.0);
    double squares = 0.0;
    for (const float v : hum) squares += double(v) * double(v);
    QVERIFY(std::abs(10.0 * std::log10(2.0 * squares / double(hum.size())) + 50.0) < 0.1);
    interface.gainDb = 6.0206;
    interface.humDbfs = -200.0;
    const auto one = digitise(std::vector<float>(10, 1.0f), interface, 48000.0);
    QVERIFY(std::abs(double(one[5]) - 2.0 / 4.361086) < 1e-4); // +12 dBu: 1.0 is 4.36 V
}

QTEST_APPLESS_MAIN(TestSim)
#include "test_sim.moc"
